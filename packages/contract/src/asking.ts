import { z } from 'zod';
import { Count, Empty, EscapedPath, Id, Instant, Named, Reason, Uuid } from './common';
import { DeskAnswer } from './desk';
import { restorers } from './roles';
import { RunState } from './run-state';
import { byId, large, route, type Route } from './route';

/** sent: nothing was said yet; asked: the person said what is missing; agreed: it is brought back; refused: the desk said no; withdrawn: by the desk; ended: its time is over. */
export const askingStates = ['sent', 'asked', 'agreed', 'refused', 'withdrawn', 'ended'] as const;
export type AskingState = (typeof askingStates)[number];

/** What somebody wants back, as they saw it: names, no contents. */
const AskedItem = z.object({ path: EscapedPath, label: z.string().max(1000), folder: z.string().max(1000) });
export type AskedItem = z.infer<typeof AskedItem>;

/** What came back, once it is known. */
export const Receipt = z.object({
  runId: Id,
  state: RunState,
  at: Instant.nullable(),
  items: Count,
  failed: Count,
  /** What did not come back, and why. */
  problems: z.array(z.object({ what: z.string(), why: z.string() })),
});
export type Receipt = z.infer<typeof Receipt>;

/** A link that was sent to somebody who misses something, and what became of it. */
export const Asking = z.object({
  id: Id,
  workload: Named,
  by: z.string(),
  madeAt: Instant,
  endsAt: Instant,
  state: z.enum(askingStates),
  note: z.string(),
  /** What they wrote. */
  words: z.string(),
  askedAt: Instant.nullable(),
  pointId: Uuid.nullable(),
  moment: Instant.nullable(),
  items: z.array(AskedItem),
  decidedBy: z.string(),
  /** Why it was refused. */
  why: z.string(),
  receipt: Receipt.nullable(),
});
export type Asking = z.infer<typeof Asking>;

const rule = z.enum(['leave', 'replace', 'beside']).default('leave');
const Chosen = z.object({ pointId: Uuid, paths: z.array(EscapedPath).min(1).max(3000), words: Reason });
/** When what is decided about was asked for, as it was shown: who asked may have chosen anew since. */
const askedAt = Instant;

/** What somebody who signed in for themselves only sees. */
export const Own = z.object({
  name: z.string(),
  /** To be sent back as header x-lithodex-csrf. */
  csrf: z.string(),
  zone: z.string(),
  now: Instant,
  /** By a link of the desk, which has to agree; else one brings back oneself. */
  asking: Asking.omit({ id: true }).nullable(),
  /** When there are points, newest first. */
  moments: z.array(Instant),
  /** What was brought back by oneself, newest first. */
  receipts: z.array(Receipt.extend({ name: z.string() })),
});
export type Own = z.infer<typeof Own>;

const Link = z.string().min(20).max(100);
/** Who wants to sign in: by the link of the desk, or by an address where that is switched on. */
const ByWhat = z.union([z.object({ link: Link }), z.object({ address: z.string().trim().min(3).max(320) })]);
export type ByWhat = z.infer<typeof ByWhat>;

/** Links to people who miss something, and how they find it and say so. */
export const askingRoutes = {
  askings: route({
    method: 'get',
    path: '/desk/askings',
    summary: 'Links that were sent to people who miss something, and what they asked for',
    access: restorers,
    response: z.object({ rows: z.array(Asking) }),
  }),
  sendAsking: route({
    method: 'post',
    path: '/desk/askings',
    summary: 'Send somebody a link by which they can say what they miss; it opens nothing by itself',
    access: restorers,
    body: z.object({ workloadId: Id, hours: z.int().min(1).max(336).default(72), note: z.string().trim().max(500).default('') }),
    response: z.object({
      id: Id,
      path: z.string(),
      until: Instant,
      /** Why no mail went out; '' when it did. */
      trouble: z.string(),
    }),
  }),
  agreeToAsking: route({
    method: 'post',
    path: '/desk/askings/:id/agree',
    summary: 'Bring back what somebody asked for, to where it was',
    access: restorers,
    params: byId,
    body: z.object({ askedAt, rule }),
    response: z.object({ runId: Id }),
  }),
  refuseAsking: route({
    method: 'post',
    path: '/desk/askings/:id/refuse',
    summary: 'Say no to what somebody asked for, and why',
    access: restorers,
    params: byId,
    body: z.object({ askedAt, why: Reason }),
    response: Empty,
  }),
  withdrawAsking: route({
    method: 'delete',
    path: '/desk/askings/:id',
    summary: 'Take a link back: it opens nothing any more',
    access: restorers,
    params: byId,
    response: Empty,
  }),
  tellPerson: route({
    method: 'post',
    path: '/desk/tell',
    summary: 'Have the person told by mail when a restore that one began has ended',
    access: restorers,
    body: z.object({ runId: Id }),
    response: Empty,
  }),
  ownCode: route({
    method: 'post',
    path: '/own/code',
    summary: 'Have a code sent to one’s own mailbox; the answer is the same for addresses that nobody has',
    access: 'anyone',
    body: ByWhat,
    response: z.object({ to: z.string() }),
  }),
  ownSession: route({
    method: 'post',
    path: '/own/session',
    summary: 'Sign in for oneself only, by the code from one’s own mailbox',
    access: 'anyone',
    body: z.intersection(ByWhat, z.object({ code: z.string().regex(/^\d{6}$/, 'six digits') })),
    response: Own,
  }),
  own: route({ method: 'get', path: '/own', summary: 'What one has oneself, and asked for', access: 'asker', response: Own }),
  ownLook: route({
    method: 'post',
    path: '/own/look',
    summary: 'What one had oneself at a moment and has no more: names, no contents',
    access: 'asker',
    body: z.object({ at: Instant, about: z.string().trim().max(200).default(''), tops: z.array(z.string().max(20)).max(10).default([]) }),
    response: DeskAnswer,
  }),
  ownAsk: route({
    method: 'post',
    path: '/own/ask',
    summary: 'Ask the desk for what one misses',
    access: 'asker',
    body: Chosen,
    limit: large,
    response: Empty,
  }),
  ownRestore: route({
    method: 'post',
    path: '/own/restore',
    summary: 'Bring back what one misses oneself, to where it was; where that is switched on',
    access: 'asker',
    body: Chosen.extend({ rule }),
    limit: large,
    response: z.object({ runId: Id }),
  }),
  ownEnd: route({ method: 'delete', path: '/own/session', summary: 'Sign out', access: 'asker', response: Empty }),
} as const satisfies Record<string, Route>;
