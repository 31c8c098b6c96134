import { z } from 'zod';

/** What a target costs, in one currency; removal before `leastDays` is paid for as if it had stayed. */
export const PriceTable = z.object({
  currency: z.string().regex(/^[A-Z]{3}$/, 'three letters, like EUR'),
  perGbMonth: z.number().min(0).max(1000),
  perGbRead: z.number().min(0).max(1000),
  perThousandRequests: z.number().min(0).max(1000),
  leastDays: z.int().min(0).max(3650),
});
export type PriceTable = z.infer<typeof PriceTable>;
