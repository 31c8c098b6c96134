import { CloudOffers } from '@lithodex/kinds';
import { z } from 'zod';

const Text = z.string().max(1000);
const Tags = z.array(z.string().max(300)).max(200);
const Bytes = z.int().min(0).max(Number.MAX_SAFE_INTEGER);

/** RFC 6749, section 5.1; `expires_in`: seconds. */
export const Token = z.object({ access_token: z.string().min(1).max(10_000), expires_in: z.number().min(1).max(1e7).default(600) });
/** RFC 6749, section 5.2, or what the cloud says by itself. */
export const Refusal = z.object({ code: z.string().max(60), message: Text.default('') });

export const Account = z.object({ client: Text, rights: z.array(z.string().max(60)).max(100), secretEnds: z.number().nullable() });
export const Catalog = CloudOffers;

export const CloudVolume = z.object({
  id: z.string().min(1).max(100),
  region: Text,
  class: Text,
  label: Text,
  size: Bytes,
  tags: Tags,
  instance: z.string().nullable(),
});
export type CloudVolume = z.infer<typeof CloudVolume>;

export const CloudInstance = z.object({
  id: z.string().min(1).max(80),
  name: z.string().min(1).max(300),
  region: Text,
  size: Text,
  network: Text,
  groups: Tags,
  address: z.string().max(100).nullable(),
  tags: Tags,
  note: Text,
  system: Text,
  firmware: z.enum(['efi', 'bios']),
  running: z.boolean(),
  volumes: z.array(CloudVolume).max(200),
  snapshots: z.array(z.object({ id: z.string().max(200), name: z.string().max(300) })).max(1000),
});
export type CloudInstance = z.infer<typeof CloudInstance>;

export const InstancePage = z.object({ rows: z.array(CloudInstance).max(5000), more: z.boolean() });
export const VolumePage = z.object({ rows: z.array(CloudVolume).max(50_000) });
export const TakenVolumes = z.object({
  id: z.string().min(1).max(200),
  volumes: z.array(z.object({ id: z.string().max(100), size: Bytes, changeId: z.string().max(300) })).max(200),
});
export const Ranges = z.array(z.tuple([Bytes, Bytes])).max(20_000_000);
export const Sums = z.object({ sums: z.array(z.string().regex(/^[0-9a-f]{64}$/)) });
export const Staged = z.object({ names: z.array(z.string().max(300)).max(100_000) });
export const ImportJob = z.object({ id: z.string().min(1).max(200), state: z.enum(['working', 'done', 'failed']), done: Bytes, why: Text });
