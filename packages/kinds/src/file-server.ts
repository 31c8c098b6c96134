import { z } from 'zod';
import { conflictRules } from './files';
import type { Kind } from './kind';
import { Host, OneLine, ShareFolder, ShareName } from './share';
import { Bytes, Count, Id } from './values';

/** Where a file server is that speaks SMB, and who signs in there: without what opens it. */
export const FileServerAddress = z.object({
  kind: z.literal('share'),
  host: Host,
  port: z.int().min(1).max(65_535).default(445),
  account: OneLine.trim().min(1).max(200),
  /** Only these, where the account may not list shares or not all are meant; none for all that are listed. */
  shares: z.array(ShareName).max(1000).default([]),
  /** Whether who may do what with each file and folder is read as well: a question for each, in every run. */
  accessLists: z.boolean().default(false),
});
export type FileServerAddress = z.infer<typeof FileServerAddress>;

/** A file server as movers need it; `id`: the source it is kept as, null while it is not kept yet. */
export const FileServer = FileServerAddress.extend({ id: Id.nullable(), password: OneLine });
export type FileServer = z.infer<typeof FileServer>;

/** What is known of a share without reading it. */
export const ShareFacts = z.object({
  kind: z.literal('share'),
  /** What its owner says of it. */
  comment: z.string().max(300),
  /** Why it can not be listed; '' where it can. */
  trouble: z.string().max(1000),
});
export type ShareFacts = z.infer<typeof ShareFacts>;

/** What a point of a share says of it. */
export const SharePoint = z.object({
  kind: z.literal('share'),
  share: ShareName,
  folders: Count,
  files: Count,
  bytes: Bytes,
  accessLists: z.boolean(),
});
export type SharePoint = z.infer<typeof SharePoint>;

/** What is kept of a file or folder of a share beside content, name and time. */
export const ShareItemFacts = z.object({
  /** Letters of the protocol: R read only, H hidden, S of the system, A not backed up yet. */
  attributes: z.string().max(20),
  /** Owner, group and entries of the access list, as the protocol's tools write them; absent where they were not read. */
  access: z
    .object({
      owner: z.string().max(200),
      group: z.string().max(200),
      /** Type, flags and mask as numbers. */
      entries: z.array(z.tuple([z.string().max(200), z.int(), z.int(), z.int()])).max(2000),
    })
    .optional(),
});
export type ShareItemFacts = z.infer<typeof ShareItemFacts>;

/** A share, with what opens its server. `share` is '' while it is asked which there are. */
export const ShareFrom = z.object({ kind: z.literal('share'), server: FileServer, share: z.union([z.literal(''), ShareName]) });
export type ShareFrom = z.infer<typeof ShareFrom>;

/** To another share, or into a folder of one. */
export const FileServerPlace = z.object({ to: z.literal('fileServer'), systemId: Id, share: ShareName, folder: ShareFolder.default('') });

export const ShareDestination = z.object({
  share: ShareName,
  /** '' for where each was. */
  folder: ShareFolder,
  exists: z.enum(conflictRules),
  /** What is put behind the names of items that are restored beside what exists. */
  stamp: z.string().max(60),
});
export type ShareDestination = z.infer<typeof ShareDestination>;

export const ShareTo = z.object({ kind: z.literal('share'), server: FileServer, destination: ShareDestination });
export type ShareTo = z.infer<typeof ShareTo>;

/** What is where a restore goes. */
export const ShareNow = z.object({
  there: z.boolean(),
  /** Why it can not be looked at; '' where it can. */
  trouble: z.string().max(1000),
});
export type ShareNow = z.infer<typeof ShareNow>;

/** The share that a point is of, as the point tells. */
export function shareOfPoint({ share: name }: SharePoint): { kind: 'share'; facts: ShareFacts; outer_id: string } {
  return { kind: 'share', facts: { kind: 'share', comment: '', trouble: '' }, outer_id: name };
}

export const share = {
  name: 'share',
  noun: 'network share',
  group: 'Network shares',
  changesIn: 'files',
  compares: false,
  opens: false,
  logs: false,
  from: ShareFrom,
  to: ShareTo,
} as const satisfies Kind;
