import { z } from 'zod';
import { SystemAddress } from '@lithodex/kinds';
import { Id, Instant, Name } from './common';

export { FoundWorkload, PointFacts, SystemAddress, SystemTest, WorkloadFacts } from '@lithodex/kinds';

/** A system to connect whose workloads are found there. `secret` opens it; null to leave it as it is. */
export const SystemBody = z.object({
  name: Name,
  location: z.string().trim().max(80).default(''),
  address: SystemAddress,
  secret: z.string().min(1).max(400).nullable(),
});
export type SystemBody = z.infer<typeof SystemBody>;

export const System = z.object({
  id: Id,
  name: z.string(),
  location: z.string(),
  address: SystemAddress,
  credentialEnds: Instant.nullable(),
  /** When it was read last; null while it was not. */
  readAt: Instant.nullable(),
  trouble: z.string().nullable(),
  workloads: z.array(z.object({ id: Id, name: z.string() })),
});
export type System = z.infer<typeof System>;
