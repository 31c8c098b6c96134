import type { RestoreAction } from '@lithodex/core';
import type { Root, TreeEntry } from '@lithodex/engine';
import type { ChildProcess } from 'node:child_process';
import type {
  DatabaseCommit,
  DatabaseFacts,
  DatabaseFamily,
  DatabaseInside,
  DatabasePoint,
  DatabaseServer,
  DatabaseUntil,
  LogStart,
  RowsCompared,
  RowsInside,
  SystemTest,
} from '@lithodex/kinds';
import type { CaptureContext, PointContent } from '../connector';
import type { PointWriting } from '../capture-store';
import type { PointStore } from '../point-store';

/** What a database holds beside its tables. */
export const otherTypes = ['sequence', 'view', 'routine', 'trigger', 'event'] as const;
export type OtherType = (typeof otherTypes)[number];

export interface TableRead {
  readonly name: string;
  /** What its text begins with: how to make it, and how rows are to be understood. */
  readonly head: string;
  /** Its storage keeps no versions, so it may change while it is read. */
  readonly unversioned: boolean;
}

export interface OtherRead {
  readonly type: OtherType;
  readonly name: string;
  /** Text that makes it. */
  readonly text: string;
}

export interface DatabaseRead {
  readonly name: string;
  /** Text that makes it. */
  readonly text: string;
  readonly tables: readonly TableRead[];
  readonly others: readonly OtherRead[];
  /** Texts that make everything but rows in an order that works, before and after these, where a family has such an order. */
  readonly around?: { readonly before: string; readonly after: string };
  /** What of it can't be read. */
  readonly leftOut?: string;
}

/** Where rows of a table go, in the order in which they are read. */
export interface RowSink {
  /** Appends bytes, which are copied. */
  write(data: Uint8Array): Promise<void>;
  /** Bytes since the last piece ended. */
  readonly open: number;
  /** A place that is found again when other rows change. */
  endPiece(): Promise<void>;
}

/** Takes rows as they are read. */
export interface RowsTake {
  /** The instant is fixed and nothing is read yet: told where the log stood then. */
  readonly fixed: (position: DatabasePoint['position']) => Promise<void>;
  /** Whether the rows of a table are wanted. */
  readonly wants: (database: string, table: string) => boolean;
  /** Asked for once for every table that has rows, and may be for others. */
  readonly sink: (database: string, table: string) => RowSink | undefined;
}

/** Stops what takes long. */
export type Stopped = () => boolean;

/** A server that is being read. */
export interface Reading {
  readonly version: string;
  /** Names of all databases that are not the server's own. */
  readonly names: readonly string[];
  /** What a database holds, without its rows. Throws SourceError. */
  database(name: string): Promise<DatabaseRead>;
  /** Text that makes the accounts and gives them their rights; '' when it may not be read. */
  accounts(): Promise<string>;
  /** Reads the rows of all tables of these databases that are wanted as they were at one instant, table after table. */
  rows(databases: readonly DatabaseRead[], take: RowsTake, stopped: Stopped): Promise<void>;
  /** The text of a table as it is stored, rows as they are now. */
  table(database: string, table: TableRead): AsyncIterable<Buffer>;
  /**
   * The files of the server as one archive, where its log leads on from these only. Gives where the log stood, and what a server made of them has to know.
   */
  files?(
    write: (data: Buffer) => Promise<void>,
    stopped: Stopped,
  ): Promise<{ position: NonNullable<DatabasePoint['position']>; state: object }>;
  close(): Promise<void>;
}

/** A table that is brought back: its text comes as it is stored. */
export interface TableBack {
  readonly name: string;
  /** Byte string in the point. */
  readonly path: string;
  readonly text: () => AsyncIterable<Buffer>;
}

export interface OtherBack {
  readonly type: OtherType;
  readonly name: string;
  readonly path: string;
  readonly text: () => Promise<string>;
}

export interface DatabaseBack {
  readonly to: string;
  /** Text that makes the database where it is not there. */
  readonly text: (() => Promise<string>) | undefined;
  /** Texts that make everything but rows, of a database that is wanted as a whole and has them. */
  readonly around?: { readonly before: () => Promise<string>; readonly after: () => Promise<string> } | undefined;
  readonly tables: readonly TableBack[];
  readonly others: readonly OtherBack[];
}

export interface BringBackHooks {
  /** Names what is temporary, so that what an attempt left can be told and removed. */
  readonly taskId: string;
  readonly phase: (name: string) => void;
  readonly done: (item: { path: string; action: RestoreAction; bytes: number; remark: string }) => void;
  readonly failed: (item: { path: string; remark: string }) => void;
  readonly note: (message: string) => void;
  readonly moved: (bytes: number) => void;
  readonly drain: () => Promise<void> | undefined;
  readonly stopped: Stopped;
}

/** Of what is brought somewhere that nobody is told of. */
export const quietly = (hooks: BringBackHooks): BringBackHooks => ({
  ...hooks,
  phase: () => undefined,
  note: () => undefined,
  done: () => undefined,
  failed: () => undefined,
});

export interface BringBackRule {
  readonly exists: 'leave' | 'replace' | 'beside';
  readonly suffix: string;
}

/** The log between a full and a moment. */
export interface LogToReplay {
  readonly store: PointStore;
  /** Of the point of the log. */
  readonly top: TreeEntry;
  /** Where the full stands in the log, and in which stretch of it. */
  readonly stretch: number;
  readonly from: { readonly file: string; readonly at: number };
  /** Where the point of the log ends. Nothing may be stored yet of the stretch it ends in. */
  readonly end: { readonly stretch: number; readonly file: string; readonly at: number };
  /** What the point of the log says beside that. */
  readonly state: object;
  readonly until: DatabaseUntil;
  /** The point of the full. */
  readonly full: { readonly store: PointStore; readonly root: Root; readonly top: TreeEntry };
}

/** What a replay came to. */
export interface Replayed {
  /** Null where the server that replays does not count them. */
  commits: number | null;
}

/** So many commits before and after a moment are asked for. */
export interface CommitsAround {
  readonly stretch: number;
  /** ms. */
  readonly at: number;
  readonly before: number;
  readonly after: number;
}

/** A database server of the mover's own, which ends with it. */
export interface Scratch {
  readonly server: DatabaseServer;
  readonly process: ChildProcess;
  /** Stops it and removes everything of it. */
  stop(): Promise<void>;
}

export interface TableName {
  readonly database: string;
  readonly table: string;
}

export type TableSize = DatabaseInside['tables'][number];

/** Two tables of a database, as they are now and were then. */
export interface TablePair {
  readonly database: string;
  readonly now: string;
  readonly then: string;
}

export interface RowsWanted {
  /** Only rows that hold this text in a column. */
  readonly holds: { readonly column: string; readonly text: string } | null;
  readonly offset: number;
  readonly limit: number;
}

export type RowsRead = RowsInside;

/** One family of database servers. All throw SourceError. */
export interface Family {
  readonly name: DatabaseFamily;
  /** Looks whether the account may do all that is needed, and what is worth knowing. */
  test(server: DatabaseServer): Promise<SystemTest>;
  facts(server: DatabaseServer): Promise<DatabaseFacts>;
  /** Reads a server, or a replica in place of its server: the places of the log are those of the server all the same. */
  read(server: DatabaseServer, replica?: DatabaseServer): Promise<Reading>;
  /** How many seconds a replica is behind its server; null where it does not follow one. */
  behind(replica: DatabaseServer): Promise<number | null>;
  /** Takes what was added to the log since the point before. */
  captureLog(ctx: CaptureContext, writing: PointWriting, server: DatabaseServer, start: LogStart | null): Promise<PointContent>;
  /** Whether the log has gone on since a point of it, by what that one keeps for the next. */
  grew(server: DatabaseServer, state: object): Promise<boolean>;
  /** Which tables the log says may have changed between two places of it, where a family's log can tell. LogGap where it does not lead from one to the other. */
  changed?(
    server: DatabaseServer,
    from: NonNullable<DatabasePoint['position']>,
    to: NonNullable<DatabasePoint['position']>,
    stopped: Stopped,
  ): Promise<(database: string, table: string) => boolean>;
  /** The commits around a moment, as a point of the log tells them. */
  commits(log: Pick<LogToReplay, 'store' | 'top'> & { readonly state: object }, around: CommitsAround): Promise<DatabaseCommit[]>;
  /** An empty server of the mover's own, to be stopped by the caller. */
  scratch(): Promise<Scratch>;
  /** A past second on a server of the mover's own, to be stopped by the caller. */
  atSecond(full: readonly DatabaseBack[], log: LogToReplay, hooks: BringBackHooks): Promise<{ scratch: Scratch; replayed: Replayed }>;
  /** Tables of all databases, with sizes as the server estimates them. */
  tables(server: DatabaseServer): Promise<TableSize[]>;
  /** Rows of a table in the order of its key, as texts. */
  rowsOf(server: DatabaseServer, table: TableName, which: RowsWanted): Promise<RowsRead>;
  /** What a table is called that stands beside another. */
  besides(table: string, suffix: string): string;
  /** The first value of the first row that a question gives, asked of a scratch server as an account that may only read one database; null for none. */
  ask(scratch: DatabaseServer, database: string, sql: string): Promise<string | null>;
  /** Drops a table of a scratch server, where it is there. */
  dropTable(scratch: DatabaseServer, table: TableName): Promise<void>;
  /** How two tables of a database differ: of each kind of difference so many rows. */
  compareRows(server: DatabaseServer, pair: TablePair, limit: number): Promise<RowsCompared>;
  /** Gives each of the two the place of the other, at one instant. Gives what is worth knowing of it. */
  swapTables(server: DatabaseServer, pair: TablePair): Promise<string[]>;
  /** Runs a text that somebody wrote in a database of a scratch server, as an account that is made for it with rights there only. Throws EDITED_REFUSED. */
  runText(scratch: DatabaseServer, database: DatabaseBack, password: string, text: string, stopped: Stopped): Promise<void>;
  /** Brings everything back or, when something stands in the way, nothing. */
  bringBack(server: DatabaseServer, databases: readonly DatabaseBack[], rule: BringBackRule, hooks: BringBackHooks): Promise<void>;
}
