import type { RestoreAction } from '@lithodex/core';
import type { DatabaseFacts, DatabaseFamily, DatabasePoint, DatabaseServer, SystemTest } from '@lithodex/kinds';

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

export interface RowsRead {
  readonly position: DatabasePoint['position'];
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
  /** Reads the rows of all tables of these databases as they were at one instant, table after table. `sink` is asked for once for every table that has rows. */
  rows(
    databases: readonly DatabaseRead[],
    sink: (database: string, table: string) => RowSink | undefined,
    stopped: Stopped,
  ): Promise<RowsRead>;
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

export interface BringBackRule {
  readonly exists: 'leave' | 'replace' | 'beside';
  readonly suffix: string;
}

/** One family of database servers. All throw SourceError. */
export interface Family {
  readonly name: DatabaseFamily;
  /** Looks whether the account may do all that is needed, and what is worth knowing. */
  test(server: DatabaseServer): Promise<SystemTest>;
  facts(server: DatabaseServer): Promise<DatabaseFacts>;
  read(server: DatabaseServer): Promise<Reading>;
  /** Brings everything back or, when something stands in the way, nothing. */
  bringBack(server: DatabaseServer, databases: readonly DatabaseBack[], rule: BringBackRule, hooks: BringBackHooks): Promise<void>;
}
