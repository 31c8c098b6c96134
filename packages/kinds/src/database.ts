import { z } from 'zod';
import type { Kind } from './kind';
import { Authority, Bytes, Count, Id, Instant, Name } from './values';

export const databaseFamilies = ['mariadb', 'postgresql'] as const;
export const DatabaseFamily = z.enum(databaseFamilies);
export type DatabaseFamily = z.infer<typeof DatabaseFamily>;

const Host = z
  .string()
  .trim()
  .regex(/^[A-Za-z0-9]([A-Za-z0-9.:_-]{0,251}[A-Za-z0-9])?$/, 'a name or an address');
const Port = z.int().min(1).max(65_535);

/** Where a database server is, and how one signs in there: without what opens it. */
export const DatabaseAddress = z.object({
  kind: z.literal('database'),
  family: DatabaseFamily,
  host: Host,
  port: Port,
  account: Name,
  /** Whether the connection is encrypted and the server's certificate checked. */
  encrypted: z.boolean().default(false),
  /** The certificate authority that the server's certificate is checked with; null for those the mover's system trusts. */
  authority: Authority,
  /** Replicas that are read in its place, the first that is at most so many seconds behind: they are opened by the same account. Null where it is read itself. */
  replicas: z
    .object({
      members: z
        .array(z.object({ host: Host, port: Port }))
        .min(1)
        .max(8),
      behindSeconds: z.int().min(1).max(3600),
    })
    .nullish(),
});
export type DatabaseAddress = z.infer<typeof DatabaseAddress>;

/** A database server as movers need it; `id`: the source it is kept as, null while it is not kept yet. */
export const DatabaseServer = DatabaseAddress.extend({ id: Id.nullable(), password: z.string().min(1).max(400) });
export type DatabaseServer = z.infer<typeof DatabaseServer>;

/** Name of a database or a table: what both families take, 64 characters at most. */
export const ObjectName = z
  .string()
  .min(1)
  .max(64)
  .regex(/^[^\0\p{Cs}]+$/u, 'a name');

/** What a server says of itself. */
export const DatabaseFacts = z.object({
  kind: z.literal('database'),
  family: DatabaseFamily,
  version: z.string().max(200),
  databases: z
    .array(z.object({ name: ObjectName, tables: Count, /** As the server estimates them. */ rows: Count, bytes: Bytes }))
    .max(20_000),
  /** Whether it writes a log of changes, and for how many hours that is kept; null: for ever. */
  logs: z.object({ on: z.boolean(), hours: z.number().nullable() }),
});
export type DatabaseFacts = z.infer<typeof DatabaseFacts>;

const Objects = z.object({ name: ObjectName, tables: Count, views: Count, routines: Count, triggers: Count, events: Count });
/** What a point of a database server says of it. */
export const DatabasePoint = z.object({
  kind: z.literal('database'),
  family: DatabaseFamily,
  version: z.string(),
  /** All tables at one instant; or some changed while they were read, as their storage keeps no versions. */
  level: z.enum(['application', 'mixed']),
  /** Where its log stood, and since which second that is so by its own clock: no earlier one can be reached from here. Null where it keeps none. */
  position: z.object({ file: z.string(), at: Count, id: z.string(), since: Instant }).nullable(),
  databases: z.array(Objects),
  /** The replica that was read, as host:port; null for the server itself. */
  member: z.string().nullish(),
});
export type DatabasePoint = z.infer<typeof DatabasePoint>;

/** A commit as the log of a server tells it. */
export const DatabaseCommit = z.object({
  at: Instant,
  /** Name of the log, and where the commit begins there: what comes before it is what was there right before. */
  file: z.string().max(255),
  position: Count,
  id: z.string().max(80),
  /** What was asked of the server, as far as the log says; the beginning of it. */
  statement: z.string().max(400),
  tables: z.array(
    z.object({
      database: z.string(),
      /** '' where a statement stands for itself. */
      table: z.string(),
      change: z.enum(['inserted', 'updated', 'deleted', 'statement']),
      rows: Count,
    }),
  ),
});
export type DatabaseCommit = z.infer<typeof DatabaseCommit>;

/** What a point of the log of a database server says: the stretches of time in which any second can be brought back, and the commits in them that took much away. */
const LogPlace = z.object({ file: z.string().max(255), at: Count });
type LogPlace = z.infer<typeof LogPlace>;

/** Number of a file of the log: they are counted up. */
const numberOf = ({ file }: Pick<LogPlace, 'file'>) => Number(/\d+$/.exec(file)?.[0] ?? 0);
/** Below 0 where the first place of one log lies before the second. */
export const placeOrder = (a: LogPlace, b: LogPlace): number => numberOf(a) - numberOf(b) || a.at - b.at;

export const DatabaseLogPoint = z.object({
  kind: z.literal('databaseLog'),
  family: DatabaseFamily,
  /** `cause`: why nothing is known of the time before; `begins`: where in the log, which points of before did not say. */
  reach: z.array(z.object({ stretch: Count, from: Instant, to: Instant, cause: z.string(), begins: LogPlace.nullish() })),
  notable: z.array(DatabaseCommit),
  /** Since the point before. */
  commits: Count,
});
export type DatabaseLogPoint = z.infer<typeof DatabaseLogPoint>;

/** Whether a full stands in a stretch of the log: within its time, and not before the place it begins at. */
export function standsIn(
  position: NonNullable<DatabasePoint['position']>,
  { from, to, begins }: DatabaseLogPoint['reach'][number],
): boolean {
  return position.since >= from && position.since <= to && (!begins || placeOrder(position, begins) >= 0);
}

/** A table that a restore put beside one that was there: under its name with a suffix, in the same database. */
export const TableBeside = z.object({ database: ObjectName, table: z.string().min(1).max(300), suffix: z.string().min(1).max(20) });
export type TableBeside = z.infer<typeof TableBeside>;

const Values = z.array(z.string().max(2000).nullable()).max(4096).nullable();
/** How a table differs from another one, row by row; of each kind of difference some are shown, with the beginnings of their values. */
export const RowsCompared = z.object({
  columns: z.array(z.string()).max(4096),
  /** Columns by which rows are told apart. */
  key: z.array(z.string()).max(100),
  /** Rows: of the table now and then, and of those now how many were not there, or were others; `gone`: how many are not there any more. */
  counts: z.object({ now: Count, then: Count, added: Count, changed: Count, gone: Count }),
  rows: z.array(z.object({ change: z.enum(['added', 'changed', 'gone']), now: Values, then: Values })).max(1000),
});
export type RowsCompared = z.infer<typeof RowsCompared>;

/** A table of a scratch server. */
export const TableInside = z.object({ database: ObjectName, table: z.string().min(1).max(300) });
export type TableInside = z.infer<typeof TableInside>;

/** What a database server holds that stays up to be looked into. */
export const DatabaseInside = z.object({
  /** Until when it stays up. */
  until: Instant,
  /** Sizes are as the server estimates them. */
  tables: z.array(z.object({ database: z.string(), table: z.string(), rows: Count, bytes: Bytes })).max(200_000),
});
export type DatabaseInside = z.infer<typeof DatabaseInside>;

/** Rows of a table in the order of its key, as texts; long ones are cut. */
export const RowsInside = z.object({
  columns: z.array(z.string()).max(4096),
  key: z.array(z.string()).max(100),
  rows: z.array(z.array(z.string().max(2000).nullable()).max(4096)).max(1000),
  more: z.boolean(),
});
export type RowsInside = z.infer<typeof RowsInside>;

/** Where the log is to begin: what stands there of the log before is needed by no full that is kept. */
export const LogStart = z.object({ file: z.string(), at: Count, moment: Instant });
export type LogStart = z.infer<typeof LogStart>;

/** For how long a scratch server stays up. */
export const ScratchMinutes = z.int().min(5).max(1440);

/** Which moment is wanted: a second, or right before a commit. */
export const DatabaseUntil = z.union([z.object({ file: z.string().max(255), position: Count, at: Instant }), z.object({ at: Instant })]);
export type DatabaseUntil = z.infer<typeof DatabaseUntil>;

/** What the only workload of a server is called there: all of it, as one log and one instant hold for all its databases. */
export const wholeServer = 'server';

/** How to make the accounts of a server: an item of its points, beside the folders of its databases. */
export const accountsItem = 'accounts.sql';
/** The files of a server, from which its log leads on. */
export const filesItem = 'server.tar';

/** All databases of a server. */
export const DatabaseFrom = z.object({ kind: z.literal('database'), server: DatabaseServer });
export type DatabaseFrom = z.infer<typeof DatabaseFrom>;

/**
 * What is brought back where: databases of the point under other names, the rest under their own. `exists` says what becomes of tables that are there: `leave` leaves them, `replace`
 * swaps them once all are loaded, `beside` puts the restored ones next to them, with `suffix` behind their names.
 */
export const DatabaseDestination = z.object({
  databases: z.array(z.object({ from: ObjectName, to: ObjectName })).max(1000),
  exists: z.enum(['leave', 'replace', 'beside']),
  suffix: z
    .string()
    .max(20)
    .regex(/^[a-z0-9_]*$/, 'small letters, digits and _'),
  /** The moment that is wanted, which the log leads to from the full; the point of the log is the last pick then. Null for the moment of the points themselves. */
  until: z.intersection(DatabaseUntil, z.object({ stretch: Count })).nullable(),
  /** For so many minutes it stays up in a scratch server of the mover, to be looked into, and goes nowhere else. */
  stays: ScratchMinutes.nullish(),
});
export type DatabaseDestination = z.infer<typeof DatabaseDestination>;

export const DatabaseTo = z.object({ kind: z.literal('database'), server: DatabaseServer, destination: DatabaseDestination });
export type DatabaseTo = z.infer<typeof DatabaseTo>;

/** The server that a point is of, as the point tells. */
export function databaseOfPoint(facts: DatabasePoint | DatabaseLogPoint): { kind: 'database'; facts: DatabaseFacts; outer_id: string } {
  const databases = facts.kind === 'database' ? facts.databases.map(({ name, tables }) => ({ name, tables, rows: 0, bytes: 0 })) : [];
  const version = facts.kind === 'database' ? facts.version : '';
  const known: DatabaseFacts = { kind: 'database', family: facts.family, version, databases, logs: { on: false, hours: null } };
  return { kind: 'database', facts: known, outer_id: wholeServer };
}

/** To another server, or under other names. */
export const DatabasePlace = z.object({
  to: z.literal('server'),
  systemId: Id,
  databases: DatabaseDestination.shape.databases.default([]),
});
/** Into a scratch server of the mover, to be looked into. */
export const ScratchPlace = z.object({ to: z.literal('scratch'), minutes: ScratchMinutes.default(120) });

export const database = {
  name: 'database',
  noun: 'database server',
  group: 'Databases',
  changesIn: 'files',
  compares: false,
  opens: false,
  logs: true,
  from: DatabaseFrom,
  to: DatabaseTo,
} as const satisfies Kind;
