import { KindName } from '@lithodex/kinds';
import { z } from 'zod';
import { Count, Empty, Id, Instant, Name, Named, QueryId, Reason } from './common';
import { keepers, readers, runners } from './roles';
import { byId, route } from './route';

const mostSteps = 100;

/** What comes back in a step: a workload to where it was, over what is there; or what a repeated restore brings, to where it brings it. */
export const StepRestore = z.discriminatedUnion('by', [
  z.object({ by: z.literal('workload'), id: Id }),
  z.object({ by: z.literal('standing'), id: Id }),
]);
export type StepRestore = z.infer<typeof StepRestore>;

/** `after`: steps before it, by their place counted from 0, that have to be back first. `wait`: so many minutes it waits once they are. */
export const SequenceStep = z.object({
  restore: StepRestore,
  after: z.array(z.int().min(0).max(mostSteps)).max(mostSteps),
  wait: z.int().min(0).max(1440),
});
export type SequenceStep = z.infer<typeof SequenceStep>;

/** Restores in their order. `objective`: within so many minutes all of it has to be back; null where nobody said. */
export const SequenceBody = z
  .object({
    name: Name,
    steps: z.array(SequenceStep).min(1).max(mostSteps),
    objective: z.int().min(1).max(43_200).nullable(),
  })
  .superRefine(({ steps }, ctx) => {
    steps.forEach(({ after }, i) => {
      if (after.some((j) => j >= i))
        ctx.addIssue({ code: 'custom', path: ['steps', i, 'after'], message: 'a step waits for steps before it' });
    });
  });
export type SequenceBody = z.infer<typeof SequenceBody>;

export const StepState = z.enum(['waiting', 'running', 'back', 'failed', 'blocked', 'passedOver', 'stopped']);
export type StepState = z.infer<typeof StepState>;

/** A step of a run of a sequence. `says`: why it does not begin, or what became of it. */
export const StepWent = z.object({
  name: z.string(),
  restore: StepRestore,
  after: z.array(Count),
  wait: Count,
  state: StepState,
  runId: Id.nullable(),
  beganAt: Instant.nullable(),
  endedAt: Instant.nullable(),
  says: z.string(),
});
export type StepWent = z.infer<typeof StepWent>;

export const SequenceRunState = z.enum(['running', 'done', 'failed', 'stopped']);
export type SequenceRunState = z.infer<typeof SequenceRunState>;

/** One time that a sequence was tried (`trial`: by drills) or started as it is. `tookMs`: until all was back; null where not all came back, or not yet. */
export const SequenceRun = z.object({
  id: Id,
  sequence: Named,
  trial: z.boolean(),
  by: z.string(),
  reason: z.string(),
  state: SequenceRunState,
  at: Instant,
  endedAt: Instant.nullable(),
  tookMs: Count.nullable(),
  objectiveMs: Count.nullable(),
  steps: z.array(StepWent),
  /** When the next step begins that only waits for its time. */
  nextAt: Instant.nullable(),
});
export type SequenceRun = z.infer<typeof SequenceRun>;

/** What can be a step. `takesMs`: as it was drilled last, else by measured rates; null where nobody knows. `cannot`: why it can't be drilled, '' where it can. */
export const SequencePart = z.object({
  restore: StepRestore,
  name: z.string(),
  kinds: z.array(KindName),
  /** Where it goes, in words. */
  place: z.string(),
  takesMs: Count.nullable(),
  tried: Instant.nullable(),
  cannot: z.string(),
});
export type SequencePart = z.infer<typeof SequencePart>;

export const SequenceRow = z.object({
  id: Id,
  body: SequenceBody,
  person: z.string(),
  changedAt: Instant,
  lastTrial: SequenceRun.nullable(),
  lastReal: SequenceRun.nullable(),
});
export type SequenceRow = z.infer<typeof SequenceRow>;

/** What a step would do if the sequence were started as it is: which point, where to, and what speaks against it. */
export const StepLook = z.object({
  name: z.string(),
  moments: z.array(Instant),
  place: z.string(),
  says: z.array(z.object({ level: z.enum(['look', 'stop']), text: z.string() })),
});
export type StepLook = z.infer<typeof StepLook>;

export const sequenceRoutes = {
  listSequences: route({
    method: 'get',
    path: '/sequences',
    summary: 'Restores in their order, with how each went when it was tried and when it was started last',
    access: readers,
    response: z.object({ rows: z.array(SequenceRow), parts: z.array(SequencePart) }),
  }),
  addSequence: route({
    method: 'post',
    path: '/sequences',
    summary: 'Put restores in their order, with what waits for what',
    access: keepers,
    body: SequenceBody,
    response: z.object({ id: Id }),
  }),
  changeSequence: route({
    method: 'put',
    path: '/sequences/:id',
    summary: 'Change a sequence; runs of it that go on are not changed',
    access: keepers,
    params: byId,
    body: SequenceBody,
    response: Empty,
  }),
  removeSequence: route({
    method: 'delete',
    path: '/sequences/:id',
    summary: 'Remove a sequence; how it went is kept',
    access: keepers,
    params: byId,
    response: Empty,
  }),
  lookAtSequence: route({
    method: 'get',
    path: '/sequences/:id/look',
    summary: 'What each step would bring back where, if it were started as it is now',
    access: keepers,
    params: byId,
    response: z.object({ steps: z.array(StepLook) }),
  }),
  trySequence: route({
    method: 'post',
    path: '/sequences/:id/trial',
    summary: 'Try a sequence: a drill of each step, in its order and with its waits',
    access: runners,
    params: byId,
    response: z.object({ id: Id }),
  }),
  startSequence: route({
    method: 'post',
    path: '/sequences/:id/run',
    summary: 'Start a sequence as it is: the newest sound points take the place of what is there',
    access: keepers,
    params: byId,
    body: z.object({ reason: Reason }),
    response: z.object({ id: Id }),
  }),
  listSequenceRuns: route({
    method: 'get',
    path: '/sequence-runs',
    summary: 'When sequences were tried and started, the newest first',
    access: readers,
    query: z.object({ sequence: QueryId.optional() }),
    response: z.object({ rows: z.array(SequenceRun) }),
  }),
  getSequenceRun: route({
    method: 'get',
    path: '/sequence-runs/:id',
    summary: 'How one time goes: each step with what it waits for',
    access: readers,
    params: byId,
    response: SequenceRun,
  }),
  stopSequenceRun: route({
    method: 'post',
    path: '/sequence-runs/:id/stop',
    summary: 'Begin no further step; what runs is stopped too',
    access: runners,
    params: byId,
    response: Empty,
  }),
  moveSequenceRun: route({
    method: 'post',
    path: '/sequence-runs/:id/move',
    summary: 'Of a sequence that was started as it is: try a step again that failed, or go on without it',
    access: keepers,
    params: byId,
    body: z.object({ step: z.int().min(0).max(mostSteps), how: z.enum(['again', 'without']) }),
    response: Empty,
  }),
} as const;
