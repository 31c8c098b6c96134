import { z } from 'zod';
import type { Kind } from './kind';
import { DisksTo } from './server';
import { ShareRef } from './share';
import { UnitTo } from './unit';
import { ByteString } from './values';

/** A folder of the mover's host. */
export const FilesFrom = z.object({
  kind: z.literal('files'),
  folder: ByteString,
  /** The account with whose rights it is read; null for the mover's own. */
  readAs: z.string().nullable(),
  crossFileSystems: z.boolean(),
  /** The folder is the root of a server, which is read whole: what another machine needs to become it is told beside its files. */
  wholeServer: z.boolean().default(false),
  /** Where targets keep their data: left out. */
  targetFolders: z.array(ByteString),
});
export type FilesFrom = z.infer<typeof FilesFrom>;

export const conflictRules = ['leave', 'replace', 'replaceIfOlder', 'beside'] as const;

/** Folders of the mover's host: each item says its own. */
export const FilesTo = z.object({
  kind: z.literal('files'),
  rule: z.enum(conflictRules),
  /** What is put behind the names of items that are restored beside what exists. */
  stamp: z.string(),
  /** A share instead: into a folder of it that is not there yet. */
  share: z.object({ ref: ShareRef, folder: z.string() }).optional(),
  /** A server made anew on disks instead, from the only pick, which is all of a point. */
  disks: DisksTo.optional(),
  /** Or on a machine that was started from a recovery medium. */
  unit: UnitTo.optional(),
  /** Of a restore that is repeated: it goes to folder `name` in `folder`, and what earlier times of `id` brought there is taken away once it is whole. */
  round: z.object({ id: z.uuid(), folder: ByteString, name: z.string().regex(/^[^/\0]+$/) }).optional(),
});
export type FilesTo = z.infer<typeof FilesTo>;

export const files = {
  name: 'files',
  noun: 'folder tree',
  group: 'Servers',
  changesIn: 'files',
  compares: true,
  opens: false,
  logs: false,
  from: FilesFrom,
  to: FilesTo,
} as const satisfies Kind;
