import { z } from 'zod';
import { QueryInstant, Count, Empty, Id, Instant } from './common';
import { moverDuties } from './duties';
import { Hardware, HostSample } from './mover';
import { keepers, readers } from './roles';
import { MoverToken } from './people';
import { byId, route } from './route';

/** A mover as people see it. */
export const KnownMover = z.object({
  name: z.string(),
  present: z.boolean(),
  firstSeen: Instant,
  lastSeen: Instant,
  /** It gets no new tasks; what it has begun it ends. */
  drained: z.boolean(),
  /** Tasks it may run at once. */
  tasks: z.int(),
  /** Where its host stands, in the words of sources and targets; '' where nobody said. */
  place: z.string(),
  duties: z.array(z.enum(moverDuties)),
  hardware: Hardware,
  latest: HostSample,
  running: Count,
  /** Sources that it alone reads. */
  reads: z.array(z.string()),
});
export type KnownMover = z.infer<typeof KnownMover>;

const byName = z.object({ id: z.string().min(1).max(80) });

export const knownMoverRoutes = {
  listMovers: route({
    method: 'get',
    path: '/movers',
    summary: 'The movers, with what their hosts are busy with',
    access: readers,
    response: z.object({ rows: z.array(KnownMover) }),
  }),
  moverSamples: route({
    method: 'get',
    path: '/movers/:id/samples',
    summary: 'How busy the host of a mover was over a time',
    access: readers,
    params: byName,
    query: z.object({ from: QueryInstant.optional() }),
    response: z.object({ rows: z.array(HostSample.extend({ at: Instant })) }),
  }),
  changeMover: route({
    method: 'put',
    path: '/movers/:id',
    summary: 'Say how many tasks a mover runs at once and where it stands, or drain it for maintenance',
    access: keepers,
    params: byName,
    body: z.object({ drained: z.boolean(), tasks: z.int().min(1).max(16), place: z.string().trim().max(80).default('') }),
    response: Empty,
  }),
  forgetMover: route({
    method: 'delete',
    path: '/movers/:id',
    summary: 'Forget a mover that is gone',
    access: keepers,
    params: byName,
    response: Empty,
  }),
  inviteMover: route({
    method: 'post',
    path: '/movers/invite',
    confirmed: true,
    summary: 'A code by which one mover may join within an hour',
    access: keepers,
    /** `systems`: sources whose credentials it is given; left out, all for a mover that keeps, none for one that only captures. */
    body: z.object({ duties: z.array(z.enum(moverDuties)).min(1), systems: z.array(Id).max(1000).nullable().default(null) }),
    response: z.object({ code: z.string(), until: Instant }),
  }),
  listMoverTokens: route({
    method: 'get',
    path: '/mover-tokens',
    summary: 'The tokens of movers, without their secrets',
    access: ['administrator', 'auditor'],
    response: z.object({ rows: z.array(MoverToken) }),
  }),
  changeMoverToken: route({
    method: 'put',
    path: '/mover-tokens/:id',
    confirmed: true,
    summary: 'Say for which systems a mover is given credentials',
    access: keepers,
    params: byId,
    body: z.object({ systems: z.array(Id).max(1000).nullable() }),
    response: Empty,
  }),
  removeMoverToken: route({
    method: 'delete',
    path: '/mover-tokens/:id',
    summary: 'Withdraw a token of movers: from now on it gets no answer, no task and no secret',
    access: keepers,
    params: byId,
    response: Empty,
  }),
} as const;
