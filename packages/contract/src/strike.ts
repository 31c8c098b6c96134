import { z } from 'zod';
import { KindName } from '@lithodex/kinds';
import { Count, Id, Instant, Uuid } from './common';
import { readers } from './roles';
import { route } from './route';

/** What can be crossed out, with what lives or stands there. */
export const StrikePlaces = z.object({
  sites: z.array(z.object({ name: z.string(), workloads: Count, targets: Count })),
  systems: z.array(z.object({ id: Id, name: z.string(), site: z.string(), workloads: Count, account: z.boolean() })),
  /** `envelopeAt`: when somebody last fetched what opens it without us. */
  targets: z.array(z.object({ id: Uuid, name: z.string(), site: z.string(), envelopeAt: Instant.nullable() })),
});
export type StrikePlaces = z.infer<typeof StrikePlaces>;

/** What is crossed out. `keys`: of these targets; `accounts`: of these systems. */
export const StrikeBody = z.object({
  sites: z.array(z.string().max(80)).max(200).default([]),
  systems: z.array(Id).max(2000).default([]),
  targets: z.array(Uuid).max(200).default([]),
  keys: z.array(Uuid).max(200).default([]),
  accounts: z.array(Id).max(2000).default([]),
});

export const fates = ['lost', 'comesBack', 'unprotected', 'poorer', 'untouched'] as const;
export const StruckRow = z.object({
  workload: z.object({ id: Id, name: z.string(), kind: KindName }),
  fate: z.enum(fates),
  pointsLeft: Count,
  pointsLost: Count,
  /** Of the newest point that is left. */
  moment: Instant.nullable(),
  from: z.object({ id: Uuid, name: z.string() }).nullable(),
  byEnvelope: z.boolean(),
  shutOut: z.boolean(),
  /** How long its restore takes; `measured`: as a drill of it did, not by the rate of the target. */
  takesMs: Count.nullable(),
  measured: z.boolean(),
  /** When it is back, counted from the begin. */
  backMs: Count.nullable(),
});
export type StruckRow = z.infer<typeof StruckRow>;

export const StruckOut = z.object({
  /** All that is not untouched, the worst first; what comes back in the order in which it does. */
  rows: z.array(StruckRow),
  untouched: Count,
  counts: z.record(z.enum(fates), Count),
  /** When the last is back; null where that is not known, or nothing has to come back. */
  backMs: Count.nullable(),
  /** Restores side by side, by the movers that are left. */
  atOnce: Count,
  moversLeft: Count,
  movers: Count,
});
export type StruckOut = z.infer<typeof StruckOut>;

export const strikeRoutes = {
  strikePlaces: route({
    method: 'get',
    path: '/strike-out',
    summary: 'What can be crossed out: sites, systems, targets',
    access: readers,
    response: StrikePlaces,
  }),
  strikeOut: route({
    method: 'post',
    path: '/strike-out',
    summary: 'What would be lost without these, and what comes back from where, in which order and when; nothing is changed',
    access: readers,
    body: StrikeBody,
    response: StruckOut,
  }),
} as const;
