import type { EarlierChunks, FolderBuilder, FolderRef, TreeEntry } from '@lithodex/engine';
import type { EarlierFolder } from './earlier-folder';

/** A folder that a capture goes through. */
export interface OpenFolder {
  readonly path: string;
  readonly live: TreeEntry;
  readonly builder: FolderBuilder;
  readonly parent: OpenFolder | undefined;
  readonly place: number;
  readonly earlier: EarlierFolder | undefined;
  /** Its entry in the earlier point. */
  readonly old: Buffer | undefined;
  /** Entries that are what they were in the earlier point. */
  kept: number;
  /** The node of the earlier point, when nothing in the folder has changed; known once the walk has left it. */
  unchanged: FolderRef | undefined;
  /** Files and folders below whose entry is not there yet, plus one while the folder is being walked. */
  waiting: number;
}

/** A folder that is entered when the one it lies in has been gone through. */
export interface FolderBelow {
  readonly name: string;
  readonly place: number;
  /** Description without what is in it; undefined until it is asked for. */
  readonly live: TreeEntry | undefined;
  readonly device: number;
  /** Its entry in the earlier point. */
  readonly old: Buffer | undefined;
  readonly earlier: FolderRef | undefined;
}

export interface WaitingFile {
  readonly folder: OpenFolder;
  readonly place: number;
  readonly name: string;
  /** Its entry in the point before, where nothing but reading can tell it from that. */
  readonly same: Buffer | undefined;
}

/** What is to be read of a folder. */
export interface FolderBatch {
  readonly folder: OpenFolder;
  readonly path: string;
  readonly names: string[];
  readonly earlier: Map<string, EarlierChunks>;
}
