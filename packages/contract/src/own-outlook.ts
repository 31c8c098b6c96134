import { z } from 'zod';
import { KindName } from '@lithodex/kinds';
import { Count, Id, Instant, Name } from './common';
import { RunState } from './run-state';

const Duration = z.number().min(0);

/** What taking a store over would come to, as far as it is known here. */
export const OwnOutlook = z.object({
  /** When it was read whole; null where it never was. */
  readAt: Instant.nullable(),
  points: Count,
  /** What has points there, those with the oldest newest point first: what came after that is lost if the owner is. Up to 500. */
  workloads: z.array(
    z.object({
      id: Id,
      name: Name,
      kind: KindName,
      newest: Instant,
      /** How long bringing it back takes, ms: as it was measured here, or by its size; null where nobody knows. */
      takes: Duration.nullable(),
      /** When it was brought back here last, to try it or by a restore that is repeated; null where it never was. */
      triedAt: Instant.nullable(),
      /** Whether a policy here protects it. */
      protectedHere: z.boolean(),
    }),
  ),
  /** Of how many there are. */
  all: Count,
  /** When all of them are back, ms from the begin, so many side by side; null where that of some is not known. */
  back: z.object({ ms: Duration.nullable(), atOnce: Count, unknown: Count }),
  /** Restores that are repeated here and bring any of them. */
  repeats: z.array(z.object({ id: Id, name: Name, workloads: Count, lastAt: Instant.nullable(), state: RunState.nullable() })),
});
export type OwnOutlook = z.infer<typeof OwnOutlook>;
