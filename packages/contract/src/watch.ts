import { z } from 'zod';
import { Bytes, Count, Id, Instant, Named, Uuid } from './common';
import { RunState } from './run-state';

export const NightTask = z.object({
  runId: Id,
  workload: z.object({ id: Id, name: z.string() }),
  policy: z.string(),
  state: RunState,
  startedAt: Instant,
  endedAt: Instant.nullable(),
  attempts: Count,
  remark: z.string(),
});
export type NightTask = z.infer<typeof NightTask>;

/** One cause that needs a person, as it is found. */
export const FoundMatter = z.object({
  id: z.string(),
  level: z.enum(['fault', 'warning', 'absent']),
  title: z.string(),
  text: z.string(),
  since: Instant,
  action: z.object({ label: z.string(), link: z.string(), query: z.record(z.string(), z.string()) }),
  second: z.object({ label: z.string(), link: z.string(), query: z.record(z.string(), z.string()) }).nullable(),
});
export type FoundMatter = z.infer<typeof FoundMatter>;

/** With what people made of it. `since`: when it was first found, where what it is about tells no time. */
export const Matter = FoundMatter.extend({
  /** It came up after this person had last looked. */
  fresh: z.boolean(),
  owner: Named.nullable(),
  note: z.object({ text: z.string(), by: z.string(), at: Instant }).nullable(),
  /** Put off until then, unless it becomes worse. */
  putOff: Instant.nullable(),
});
export type Matter = z.infer<typeof Matter>;

/** What is left out stays as it is. */
export const MatterChange = z.object({
  owner: Id.nullable().optional(),
  note: z.string().trim().max(500).optional(),
  putOff: Instant.nullable().optional(),
});

export const nightGroupings = ['policy', 'source'] as const;
export const NightGrouping = z.enum(nightGroupings);
export type NightGrouping = z.infer<typeof NightGrouping>;

export const Watch = z.object({
  now: Instant,
  zone: z.string(),
  from: Instant,
  lead: z.object({
    protected: Count,
    all: Count,
    parts: z.array(z.object({ tone: z.enum(['fault', 'warning', 'plain']), text: z.string() })),
  }),
  facts: z.object({
    newestBytes: Bytes,
    storedBytes: Bytes,
    oldestNewest: z.object({ moment: Instant, workload: z.string(), objectiveHours: z.number(), late: z.boolean() }).nullable(),
    nightMs: z.number().nullable(),
    usualNightMs: z.number().nullable(),
    reduction: z.number().nullable(),
    lastRestore: z.object({ runId: Id, at: Instant, state: RunState }).nullable(),
  }),
  deviants: z.array(NightTask),
  groups: z.array(
    z.object({
      name: z.string(),
      note: z.string(),
      /** Tasks at work per slot of `slotMs` from `from` on: this night, and the median of the nights before. */
      now: z.array(z.number()),
      usual: z.array(z.number()),
    }),
  ),
  slotMs: z.number(),
  quiet: Count,
  /** Worst first; those put off stand apart. */
  matters: z.array(Matter),
  putOff: z.array(Matter),
  /** Who can take a matter on. */
  people: z.array(Named),
  coming: z.array(z.object({ at: Instant, text: z.string() })),
});
export type Watch = z.infer<typeof Watch>;

export const Ledge = z.object({
  running: z.array(
    z.object({
      runId: Id,
      name: z.string(),
      startedAt: Instant,
      share: z.number().nullable(),
      leftMs: z.number().nullable(),
      text: z.string(),
    }),
  ),
  waiting: Count,
  /** Logs that are followed, which goes on all the time and is no news. */
  followed: Count,
  /** Disks and volumes that people have attached. */
  attached: Count,
  /** Machines that run from the store. */
  fromStore: Count,
  coming: z.array(z.object({ at: Instant, policyId: Id, name: z.string() })),
  now: Instant,
});
export type Ledge = z.infer<typeof Ledge>;

export const FinderHit = z.object({
  kind: z.enum(['workload', 'policy', 'run', 'file', 'place']),
  title: z.string(),
  note: z.string(),
  link: z.string(),
  query: z.record(z.string(), z.string()),
});
export type FinderHit = z.infer<typeof FinderHit>;

export const LiveEvent = z.object({
  id: Id,
  kind: z.enum(['run', 'progress', 'policy', 'estate', 'point', 'request', 'matter', 'room', 'asking']),
  runId: Id.nullable(),
  workloadId: Id.nullable(),
  taskId: Uuid.nullable(),
});
export type LiveEvent = z.infer<typeof LiveEvent>;
