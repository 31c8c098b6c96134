import { z } from 'zod';
import { Count, Instant } from './values';

/** What a test of the connection to a system found. */
export const SystemTest = z.object({
  ok: z.boolean(),
  message: z.string().max(2000),
  needs: z.array(z.object({ right: z.string(), neededFor: z.string(), missing: z.boolean() })).max(200),
  /** What is worth knowing before it is protected. */
  remarks: z.array(z.string()).max(50),
  /** When what opens it ends; null when it doesn't, or the system does not say. */
  credentialEnds: Instant.nullable(),
  /** What it holds that could be protected. */
  found: Count,
});
export type SystemTest = z.infer<typeof SystemTest>;
