import { z } from 'zod';
import { UnitFacts, UnitName } from '@lithodex/kinds';
import { Empty, Id, Instant, Named } from './common';
import { keepers, readers } from './roles';
import { route } from './route';

/** A machine that was started from a recovery medium and reported in. */
export const Unit = z.object({
  name: UnitName,
  /** It answers now. */
  present: z.boolean(),
  firstSeen: Instant,
  lastSeen: Instant,
  facts: UnitFacts,
  /** The newest run that made a server anew on it, or is at it; null for none. */
  run: z.object({ id: Id, state: z.string(), workload: z.string() }).nullable(),
});
export type Unit = z.infer<typeof Unit>;

const byName = z.object({ id: UnitName });

export const unitRoutes = {
  listUnits: route({
    method: 'get',
    path: '/units',
    summary: 'Machines that were started from a recovery medium and wait to become a server',
    access: readers,
    /** `servers`: those that are read whole, so that one can be made anew on a unit. */
    response: z.object({ rows: z.array(Unit), servers: z.array(Named) }),
  }),
  inviteUnit: route({
    method: 'post',
    path: '/units/invite',
    confirmed: true,
    summary: 'A code by which one machine that was started from a recovery medium may report in within a day',
    access: keepers,
    body: z.object({}),
    response: z.object({ code: z.string(), until: Instant }),
  }),
  forgetUnit: route({
    method: 'delete',
    path: '/units/:id',
    summary: 'Send a unit away: it gets no answer any more, and has to report in anew',
    access: keepers,
    params: byName,
    response: Empty,
  }),
} as const;
