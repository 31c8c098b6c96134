import { z } from 'zod';
import { Id, Instant, Name, Named } from './common';
import { tokenDuties } from './duties';
import { PolicyBody } from './policy';
import { Role } from './roles';

export const SignIn = z.object({ name: z.string().min(1).max(60), password: z.string().min(1).max(200) });
export const Me = z.object({
  /** null for a token that belongs to nobody. */
  id: Id.nullable(),
  name: z.string(),
  display: z.string(),
  role: Role,
  /** Workloads a clerk may act for; null means no limit. */
  remit: z.array(Id).nullable(),
  /** To be sent back as header x-lithodex-csrf with every change. */
  csrf: z.string(),
  /** Minutes without anything being done after which the session ends; null for none that ends so. */
  idleMinutes: z.int().nullable(),
  zone: z.string(),
  now: Instant,
});
export type Me = z.infer<typeof Me>;

export const Person = z.object({
  id: Id,
  name: z.string(),
  display: z.string(),
  role: Role,
  remit: z.array(Id).nullable(),
  disabled: z.boolean(),
  /** What they show besides the password. */
  second: z.enum(['none', 'code', 'passkey', 'both']),
  /** Signs in by the organisation. */
  organisation: z.boolean(),
});
export type Person = z.infer<typeof Person>;
export const NewPerson = z.object({
  name: z.string().regex(/^[a-z][a-z0-9.-]{1,39}$/),
  display: Name,
  role: Role,
  /** The first one: it is to be changed at the first sign-in. */
  password: z.string().min(12).max(200),
  remit: z.array(Id).max(1000).nullable().default(null),
});

export const PersonChange = NewPerson.pick({ display: true, role: true, remit: true });

export const Token = z.object({
  id: Id,
  name: z.string(),
  role: Role,
  /** Workloads a clerk's token may act for; null means no limit. */
  remit: z.array(Id).nullable(),
  /** Whose it is: it goes with them. null: nobody's, as it was made before tokens belonged to somebody, or at the command line. */
  owner: z.string().nullable(),
  createdAt: Instant,
  lastUsedAt: Instant.nullable(),
  /** null: it does not end by itself, as it was made before tokens did. */
  expiresAt: Instant.nullable(),
});
export type Token = z.infer<typeof Token>;
export const tokenDays = 90;
export const NewToken = z.object({
  name: Name.max(80),
  role: Role,
  remit: z.array(Id).max(1000).nullable().default(null),
  /** For how many days it is good. */
  days: z.int().min(1).max(366).default(tokenDays),
});

/** A token of movers: what it entitles to, and to which mover. */
export const MoverToken = z.object({
  id: Id,
  name: z.string(),
  /** The only mover that may use it; null: any, as that of the installation itself. */
  mover: z.string().nullable(),
  duties: z.array(z.enum(tokenDuties)),
  /** Systems whose credentials it is given; null: all. */
  systems: z.array(Named).nullable(),
  createdAt: Instant,
  lastUsedAt: Instant.nullable(),
});
export type MoverToken = z.infer<typeof MoverToken>;
export const IssuedToken = z.object({ token: z.string() });

/** Something that deletes what still counts: it is done when a second person has agreed. */
export const Request = z.object({
  id: Id,
  /** What it is about, to show and to link: like 'policy 3'. */
  subject: z.string(),
  effect: z.string(),
  askedBy: z.string(),
  askedAt: Instant,
  state: z.enum(['waiting', 'done', 'refused', 'lapsed', 'failed']),
  decidedBy: z.string().nullable(),
  decidedAt: Instant.nullable(),
  outcome: z.string(),
  /** Why the person who asks for this list can not agree; '' when they can. */
  notByMe: z.string(),
  /** A changed policy: what is in force, and what would be. */
  difference: z.object({ before: PolicyBody, after: PolicyBody }).nullable(),
});
export type Request = z.infer<typeof Request>;
/** `request`: the request that was made instead, as the act needs a second person; null when it was done at once. */
export const DoneOrAsked = z.object({ request: Id.nullable() });
export type DoneOrAsked = z.infer<typeof DoneOrAsked>;

export const AuditRow = z.object({
  seq: Id,
  at: Instant,
  actor: z.string(),
  action: z.string(),
  object: z.string(),
  detail: z.string(),
});
export type AuditRow = z.infer<typeof AuditRow>;
export const AuditCheck = z.object({
  rows: z.int(),
  intact: z.boolean(),
  /** Rows that were changed, or before which some are missing; the first hundred of them, and how many there are. */
  broken: z.array(z.int()),
  brokenCount: z.int(),
  /** There were more rows than there are. */
  cutShort: z.boolean(),
});
export type AuditCheck = z.infer<typeof AuditCheck>;
