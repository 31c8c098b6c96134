import { z } from 'zod';
import { CloudPlace, DatabasePlace, MachinePlace } from '@lithodex/kinds';
import { Bytes, Count, Empty, Id, Instant, Name, Named, Reason } from './common';
import { Schedule } from './policy';
import { keepers, readers } from './roles';
import { byId, route } from './route';
import { RunState } from './run-state';
import { Started } from './runs';

/** Where the newest points go every time; what the time before brought there is taken away once the new is whole. */
const StandingPlace = z.discriminatedUnion('to', [
  z.object({ to: z.literal('folder'), folder: z.string().regex(/^\//, 'start with /').max(4000) }),
  MachinePlace.omit({ exceptions: true, networks: true }).extend({
    networks: z.array(Name).max(20).default([]),
    suffix: z.string().trim().min(1).max(40),
  }),
  /** Disks that are sent ahead get no name of their own. */
  CloudPlace.omit({ exceptions: true }),
  DatabasePlace.extend({
    databases: z
      .array(z.object({ from: z.string().min(1).max(64), to: z.string().min(1).max(64) }))
      .min(1)
      .max(100),
  }),
]);

/** When: by the clock, or whenever there is a newer good point of one of them, which alone is brought then. */
const StandingSchedule = z.discriminatedUnion('every', [
  Schedule.options[0],
  Schedule.options[1],
  Schedule.options[5],
  z.object({ every: z.literal('point') }),
]);

/** A restore that is repeated: the newest good points of these workloads. */
export const StandingBody = z.object({
  name: Name,
  workloads: z.array(Id).min(1).max(50),
  schedule: StandingSchedule,
  destination: StandingPlace,
  /** Of machines: whether they are started. */
  start: z.boolean().default(false),
  reason: Reason,
});
export type StandingBody = z.infer<typeof StandingBody>;

/** What one time has shown. */
export const StandingEvidence = z.object({
  runId: Id,
  at: Instant,
  state: RunState,
  items: Count,
  bytes: Bytes,
  /** ms; null until it has ended. */
  took: z.number().nullable(),
  /** Of the points that were brought back. */
  moments: z.array(Instant),
  /** What was found on the way, the last words of each task. */
  says: z.string(),
});
export type StandingEvidence = z.infer<typeof StandingEvidence>;

export const StandingRow = z.object({
  id: Id,
  body: StandingBody,
  workloads: z.array(Named),
  /** The place in words. */
  place: z.string(),
  person: z.string(),
  /** null where that is when there is a newer point. */
  next: Instant.nullable(),
  /** Why it did not begin when it was due last; '' when it did. */
  trouble: z.string(),
  last: StandingEvidence.nullable(),
});
export type StandingRow = z.infer<typeof StandingRow>;

export const standingRoutes = {
  listStanding: route({
    method: 'get',
    path: '/standing-restores',
    summary: 'Restores that are repeated, with what the last time has shown',
    access: readers,
    response: z.object({ rows: z.array(StandingRow) }),
  }),
  standingEvidence: route({
    method: 'get',
    path: '/standing-restores/:id/evidence',
    summary: 'What a repeated restore has shown, the newest of up to 400 times first',
    access: readers,
    params: byId,
    response: z.object({ rows: z.array(StandingEvidence) }),
  }),
  addStanding: route({
    method: 'post',
    path: '/standing-restores',
    summary: 'Repeat a restore',
    access: keepers,
    body: StandingBody,
    response: z.object({ id: Id }),
  }),
  changeStanding: route({
    method: 'put',
    path: '/standing-restores/:id',
    summary: 'Change a repeated restore',
    access: keepers,
    params: byId,
    body: StandingBody,
    response: Empty,
  }),
  removeStanding: route({
    method: 'delete',
    path: '/standing-restores/:id',
    summary: 'End a repeated restore; what it brought back last stays where it is, and its evidence is kept',
    access: keepers,
    params: byId,
    response: Empty,
  }),
  startStanding: route({
    method: 'post',
    path: '/standing-restores/:id/run',
    summary: 'Do it now',
    access: keepers,
    params: byId,
    response: Started,
  }),
} as const;
