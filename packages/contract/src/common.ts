import { z } from 'zod';
import { Count, Id, largestId } from '@lithodex/kinds';

export { Bytes, ByteString, Count, Id, Instant, Name } from '@lithodex/kinds';

/** Most characters of a text that somebody edited. */
export const mostEdited = 8_000_000;
export const QueryId = z.coerce.number().int().positive().max(largestId);
export const Uuid = z.string().regex(/^[0-9a-f]{8}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{12}$/);
/** One that somebody asks for: within the years people reckon with. */
export const QueryInstant = z.coerce.number().int().min(0).max(253_402_300_799_999);
/** Path below a root as escaped text; '' is the root. */
export const EscapedPath = z.string().max(100_000);
export const Reason = z.string().trim().min(3).max(500);
/** Time of a day on the wall, such as 07:30. */
export const ClockTime = z.string().regex(/^([01]\d|2[0-3]):[0-5]\d$/, 'a time like 07:30');
export const Empty = z.object({});
export const Named = z.object({ id: Id, name: z.string() });
export type Named = z.infer<typeof Named>;

/** Query of every list: one page after `cursor`, at most `limit` rows, sorted by `sort` ("-" in front turns it round), `q` filters by text. */
export const ListQuery = z.object({
  cursor: z.string().max(2000).optional(),
  limit: z.coerce.number().int().min(1).max(500).default(100),
  sort: z.string().max(40).optional(),
  q: z.string().max(300).optional(),
});

/** One page of a list. `next` is the cursor of the page after it, null at the end. */
export function page<T extends z.ZodType>(row: T) {
  return z.object({ rows: z.array(row), next: z.string().nullable(), total: Count.nullable() });
}

export const ErrorBody = z.object({ code: z.string(), message: z.string(), details: z.unknown().optional() });
export type ErrorBody = z.infer<typeof ErrorBody>;
