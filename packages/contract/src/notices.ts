import { z } from 'zod';
import { ClockTime, Count, Empty, Id, Instant, Name } from './common';
import { ReportName } from './reports';
import { keepers, readers } from './roles';
import { byId, route } from './route';

/** What a notice tells of. */
export const NoticeAbout = z.discriminatedUnion('what', [
  /** Every matter when it comes up: one message per cause, not per run. */
  z.object({ what: z.literal('matters'), level: z.enum(['fault', 'warning']) }),
  /** Runs of a policy, or of all, when they end. */
  z.object({ what: z.literal('runs'), policyId: Id.nullable(), outcome: z.enum(['any', 'well', 'trouble']) }),
  /** The night and what needs a person, once a day. */
  z.object({ what: z.literal('digest'), at: ClockTime }),
  /** A report over the week or month that ended, with its CSV. */
  z.object({ what: z.literal('report'), report: ReportName, every: z.enum(['week', 'month']), at: ClockTime }),
]);
export type NoticeAbout = z.infer<typeof NoticeAbout>;

export const NoticeWay = z.discriminatedUnion('by', [
  z.object({ by: z.literal('mail'), to: z.array(z.email().max(200)).min(1).max(30) }),
  /** A POST of JSON; `x-lithodex-signature` carries "sha256=" and the HMAC of the body under the secret in hex. */
  z.object({ by: z.literal('webhook'), url: z.url({ protocol: /^https?$/ }).max(1000) }),
]);
export type NoticeWay = z.infer<typeof NoticeWay>;

export const NoticeBody = z.object({
  name: Name,
  about: NoticeAbout,
  way: NoticeWay,
  /** Of a webhook, at least 16 characters; left out it stays as it is. */
  secret: z.string().min(16).max(200).optional(),
  paused: z.boolean().default(false),
});
export type NoticeBody = z.infer<typeof NoticeBody>;

export const Notice = z.object({
  id: Id,
  name: z.string(),
  about: NoticeAbout,
  way: NoticeWay,
  paused: z.boolean(),
  /** Whether a secret is kept for it. */
  signed: z.boolean(),
  lastSent: Instant.nullable(),
  /** Why the newest message has not gone out; null when it did. */
  trouble: z.string().nullable(),
  waiting: Count,
});
export type Notice = z.infer<typeof Notice>;

export const MailServerBody = z.object({
  host: z.string().trim().min(1).max(255),
  port: z.int().min(1).max(65_535),
  security: z.enum(['tls', 'starttls', 'none']),
  /** '' where it asks for none. */
  account: z.string().max(200).default(''),
  /** Left out it stays as it is. */
  password: z.string().max(200).optional(),
  from: z.email().max(200),
  /** Address under which people reach this installation, for links; '' for no links. */
  links: z.union([z.literal(''), z.url({ protocol: /^https?$/ }).max(300)]).default(''),
});
export type MailServerBody = z.infer<typeof MailServerBody>;
export const MailServer = MailServerBody.omit({ password: true }).extend({ passwordKept: z.boolean() });
export type MailServer = z.infer<typeof MailServer>;

export const Message = z.object({
  id: Id,
  noticeId: Id,
  notice: z.string(),
  subject: z.string(),
  queuedAt: Instant,
  sentAt: Instant.nullable(),
  tries: Count,
  nextTry: Instant.nullable(),
  trouble: z.string().nullable(),
});
export type Message = z.infer<typeof Message>;

export const noticeRoutes = {
  listNotices: route({
    method: 'get',
    path: '/notices',
    summary: 'Who is told of what',
    access: readers,
    response: z.object({ rows: z.array(Notice) }),
  }),
  addNotice: route({
    method: 'post',
    path: '/notices',
    summary: 'Tell somebody of something',
    access: keepers,
    body: NoticeBody,
    response: z.object({ id: Id }),
  }),
  changeNotice: route({
    method: 'put',
    path: '/notices/:id',
    summary: 'Change a notice',
    access: keepers,
    params: byId,
    body: NoticeBody,
    response: Empty,
  }),
  removeNotice: route({
    method: 'delete',
    path: '/notices/:id',
    summary: 'Tell nobody any more',
    access: keepers,
    params: byId,
    response: Empty,
  }),
  tryNotice: route({
    method: 'post',
    path: '/notices/:id/try',
    summary: 'Send a message of trial now and wait for what comes of it',
    access: keepers,
    params: byId,
    response: Empty,
  }),
  listMessages: route({
    method: 'get',
    path: '/messages',
    summary: 'The newest messages, with what became of them',
    access: readers,
    response: z.object({ rows: z.array(Message) }),
  }),
  mailServer: route({
    method: 'get',
    path: '/mail-server',
    summary: 'How mail goes out, without what opens it',
    access: readers,
    response: z.object({ server: MailServer.nullable() }),
  }),
  setMailServer: route({
    method: 'put',
    path: '/mail-server',
    summary: 'Say how mail goes out',
    access: keepers,
    body: MailServerBody,
    response: Empty,
  }),
} as const;
