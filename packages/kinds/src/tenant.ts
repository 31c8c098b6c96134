import { z } from 'zod';
import type { Kind } from './kind';
import { Authority, ByteString, Bytes, Count, Id, Name } from './values';

const Host = z
  .string()
  .trim()
  .regex(/^[A-Za-z0-9]([A-Za-z0-9.:_-]{0,251}[A-Za-z0-9])?$/, 'a name or an address');
const Account = z
  .string()
  .trim()
  .min(1)
  .max(200)
  .regex(/^[^\0-\x1f\x7f]+$/, 'one line');
/** What somebody is called where they sign in: it becomes a part of addresses. */
export const Login = z
  .string()
  .trim()
  .min(1)
  .max(100)
  .regex(/^[^\0-\x20\x7f/\\*%"?#]+$/, 'a name without blanks and / \\ * % " ? #');
const Url = z.url({ protocol: /^https?$/ }).max(300);
/** Stands for the person in an address, also as programs write it. */
const person = /\{login\}|%7Blogin%7D/gi;
/** An address with `{login}` in the place of the person. */
const PersonUrl = Url.refine((text) => text.search(person) >= 0, { message: 'an address with {login} in it' });
/** The address for one person. */
export const urlOfPerson = (url: string, login: string): string => url.replace(person, () => encodeURIComponent(login));

/** The services of an office tenant; any may be absent. */
export const tenantServices = ['people', 'mail', 'groupware', 'drives', 'sites', 'chat'] as const;
export type TenantService = (typeof tenantServices)[number];

/** How the services of an office tenant are reached, without what opens them. */
export const TenantAddress = z.object({
  kind: z.literal('tenant'),
  /** Who there is: by SCIM 2.0, by LDAP, or as listed by hand. */
  people: z.discriminatedUnion('by', [
    z.object({ by: z.literal('scim'), url: Url, account: Account.nullable().default(null) }),
    z.object({
      by: z.literal('ldap'),
      url: z.url({ protocol: /^ldaps?$/ }).max(300),
      base: z.string().trim().min(1).max(300),
      account: Account,
    }),
    z.object({ by: z.literal('list'), logins: z.array(Login).min(1).max(5000) }),
  ]),
  /** Mailboxes by IMAP: one account signs in for everybody, as `login` + `separator` + `account`. */
  mail: z
    .object({
      host: Host,
      port: z.int().min(1).max(65_535),
      encryption: z.enum(['none', 'starttls', 'tls']),
      account: Account,
      separator: z.string().min(1).max(3),
    })
    .nullable()
    .default(null),
  /** Calendars and contacts by CalDAV and CardDAV: the folder of a person's collections. */
  groupware: z.object({ url: PersonUrl, account: Account }).nullable().default(null),
  /** Drives by WebDAV: the folder of a person's files. */
  drives: z.object({ url: PersonUrl, account: Account }).nullable().default(null),
  /** Sites by WebDAV: a folder each, their wiki pages in a folder `pages`. */
  sites: z.object({ url: Url, account: Account }).nullable().default(null),
  /** Rooms by the client-server API of Matrix, with the token of an application service. */
  chat: z.object({ url: Url, domain: Host }).nullable().default(null),
  /** The certificate authority that certificates are checked with; null for those the mover's system trusts. */
  authority: Authority,
});
export type TenantAddress = z.infer<typeof TenantAddress>;

/** What opens each service. */
export const TenantSecrets = z.partialRecord(z.enum(tenantServices), z.string().min(1).max(4000));
export type TenantSecrets = z.infer<typeof TenantSecrets>;

/** An office tenant as movers need it; `id`: the source it is kept as, null while it is not kept yet. */
export const Tenant = TenantAddress.extend({ id: Id.nullable(), secrets: TenantSecrets });
export type Tenant = z.infer<typeof Tenant>;

export const memberTypes = ['person', 'group', 'site', 'room'] as const;
/** Whose data it is: a person, a group with a mailbox, a site or a chat room. */
export const TenantMember = z.object({
  type: z.enum(memberTypes),
  /** Where services know it by: name at sign-in, folder of a site, id of a room. */
  login: z.string().min(1).max(300),
  name: Name,
});
export type TenantMember = z.infer<typeof TenantMember>;

/** What is known of a member of a tenant. */
export const TenantFacts = TenantMember.extend({
  kind: z.literal('tenant'),
  /** Address of its mailbox; '' for none. */
  mail: z.string().max(320),
  /** May sign in. */
  active: z.boolean(),
  /** Groups it is in, also through others. */
  groups: z.array(Name).max(500),
});
export type TenantFacts = z.infer<typeof TenantFacts>;

/** Names of the folders at the top of a point, by what they hold. */
export const tenantTops = {
  mail: 'Mail',
  calendars: 'Calendars',
  contacts: 'Contacts',
  drive: 'Drive',
  files: 'Files',
  chat: 'Chat',
} as const;
export const tenantTopNames = Object.values(tenantTops);
export type TenantTop = (typeof tenantTopNames)[number];

/** What items of a service are counted as. */
export const TenantCounts = z.object({ messages: Count, appointments: Count, contacts: Count, files: Count, days: Count });
export type TenantCounts = z.infer<typeof TenantCounts>;

/** What a point of a member says. */
export const TenantPoint = TenantMember.extend({
  kind: z.literal('tenant'),
  mail: z.string().max(320),
  counts: TenantCounts,
  /** When parts were read that are not as of the point, by the folder at its top, ms. */
  readAt: z.partialRecord(z.enum(tenantTopNames), z.number()).default({}),
});
export type TenantPoint = z.infer<typeof TenantPoint>;

/** What people call what is in such a folder. */
export const partWords: Readonly<Record<TenantTop, string>> = {
  Mail: 'mail',
  Calendars: 'calendars',
  Contacts: 'contacts',
  Drive: 'drives',
  Files: 'files of sites',
  Chat: 'chats',
};

/** The folders that a point of a member may have at its top. */
export const topsOf = ({ type }: Pick<TenantMember, 'type'>): readonly TenantTop[] =>
  type === 'site' ? ['Files'] : type === 'room' ? ['Chat'] : ['Mail', 'Calendars', 'Contacts', 'Drive'];

/** Folders at the top of points, each with what its items are counted as. */
export const countedAs: Readonly<Record<TenantTop, keyof TenantCounts>> = {
  Mail: 'messages',
  Calendars: 'appointments',
  Contacts: 'contacts',
  Drive: 'files',
  Files: 'files',
  Chat: 'days',
};

/** Everything of one member, or, without one, the tenant itself. */
export const TenantFrom = z.object({ kind: z.literal('tenant'), server: Tenant, member: TenantMember.nullable() });
export type TenantFrom = z.infer<typeof TenantFrom>;

/** What becomes of what is there already: told apart by what it is, not by where it lies. */
export const TenantDestination = z.object({
  member: TenantMember,
  /** Folder that everything goes below, in each service; '' for where it was. */
  below: z.string().max(200),
  exists: z.enum(['leave', 'replace', 'replaceIfOlder', 'beside']),
});
export type TenantDestination = z.infer<typeof TenantDestination>;
export const TenantTo = z.object({ kind: z.literal('tenant'), server: Tenant, destination: TenantDestination });
export type TenantTo = z.infer<typeof TenantTo>;

/** A folder of a mailbox, drive or site that things are put below; '' for where they were. */
export const BelowFolder = z
  .string()
  .trim()
  .normalize()
  .max(200)
  .refine(
    (text) => text === '' || text.split('/').every((part) => part.trim() !== '' && !/^\.+$/.test(part) && !/[\\\0-\x1f\x7f*%"]/.test(part)),
    {
      message: 'folders with / in between, without \\ * % "',
    },
  );
/** To another person, or into another folder of the same. */
export const MemberPlace = z.object({ to: z.literal('member'), workloadId: Id, below: BelowFolder.default('') });

/** What is known of an item beside what every item has; searched and shown. */
export const ItemOfMail = z.object({
  type: z.literal('message'),
  /** Hash of its bytes, as hex: tells it from others of the same title. */
  sum: z.string().max(64),
  uid: z.number(),
  /** ms. */
  at: z.number(),
  flags: z.array(z.string().max(200)).max(200),
  id: z.string().max(1000),
  subject: z.string().max(1000),
  from: z.string().max(400),
  to: z.string().max(2000),
  files: z.array(z.object({ name: z.string().max(300), size: Bytes })).max(200),
});
export type ItemOfMail = z.infer<typeof ItemOfMail>;
export const ItemOfCalendar = z.object({
  type: z.literal('appointment'),
  href: ByteString,
  etag: z.string().max(500),
  id: z.string().max(1000),
  title: z.string().max(1000),
  /** As the calendar says it. */
  start: z.string().max(80),
  end: z.string().max(80),
  place: z.string().max(1000),
  people: z.string().max(4000),
});
export type ItemOfCalendar = z.infer<typeof ItemOfCalendar>;
export const ItemOfContacts = z.object({
  type: z.literal('contact'),
  href: ByteString,
  etag: z.string().max(500),
  id: z.string().max(1000),
  title: z.string().max(1000),
  addresses: z.string().max(4000),
});
export type ItemOfContacts = z.infer<typeof ItemOfContacts>;
export const ItemOfDrive = z.object({ type: z.literal('file'), href: ByteString, etag: z.string().max(500) });
export type ItemOfDrive = z.infer<typeof ItemOfDrive>;
export const ItemOfChat = z.object({ type: z.literal('day'), room: z.string().max(300), title: z.string().max(300), messages: Count });
export type ItemOfChat = z.infer<typeof ItemOfChat>;
export const TenantItem = z.discriminatedUnion('type', [ItemOfMail, ItemOfCalendar, ItemOfContacts, ItemOfDrive, ItemOfChat]);
export type TenantItem = z.infer<typeof TenantItem>;

/** What a member has now: its folders, and what keeps a service from answering. */
export const MemberNow = z.object({
  services: z.array(
    z.object({
      top: z.string().max(20),
      /** Why it does not answer; '' when it does. */
      trouble: z.string().max(400),
      /** Bytes that still go in; null where nobody can tell. */
      free: Bytes.nullable(),
    }),
  ),
  /** Folders of mailboxes, calendars and address books, and those at the top of drives: items where that is known. */
  folders: z.array(z.object({ top: z.string().max(20), name: z.string().max(1000), items: Count.nullable() })).max(20_000),
});
export type MemberNow = z.infer<typeof MemberNow>;

/** The member that a point is of, as the point tells. */
export function memberOfPoint({ counts: _, ...facts }: TenantPoint): { kind: 'tenant'; facts: TenantFacts; outer_id: string } {
  return { kind: 'tenant', facts: { ...facts, active: false, groups: [] }, outer_id: memberId(facts) };
}

/** What a member is called in the inventory. */
export const memberId = ({ type, login }: Pick<TenantMember, 'type' | 'login'>): string => `${type}:${login}`;

export const tenant = {
  name: 'tenant',
  noun: 'person or site',
  group: 'Office',
  changesIn: 'files',
  compares: false,
  opens: false,
  logs: false,
  from: TenantFrom,
  to: TenantTo,
} as const satisfies Kind;
