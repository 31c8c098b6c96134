import { z } from 'zod';
import { Bytes } from './common';

/** A block device that systems mount, or a drive that people look through. */
export const AttachedAs = z.enum(['device', 'drive']);
export type AttachedAs = z.infer<typeof AttachedAs>;

const common = { host: z.string().max(300), port: z.int().min(1).max(65_535), user: z.string().max(80) };
/** How what is attached is reached: who knows `key` may read it. `certificate` (PEM) vouches for itself. */
export const AttachedAt = z.discriminatedUnion('as', [
  z.object({ as: z.literal('device'), ...common, name: z.string().max(300), key: z.string().regex(/^[0-9a-f]{64}$/), size: Bytes }),
  z.object({
    as: z.literal('drive'),
    ...common,
    name: z.string().max(300),
    key: z.string().regex(/^[\w-]{32}$/),
    certificate: z.string().max(20_000),
    fingerprint: z.string().max(200),
  }),
]);
export type AttachedAt = z.infer<typeof AttachedAt>;
