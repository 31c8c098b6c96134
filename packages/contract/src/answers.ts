import { z } from 'zod';
import {
  ApplicationLook,
  AttachedFile,
  DatabaseCommit,
  DatabaseInside,
  FoundMailStores,
  FoundWorkload,
  InsideLook,
  ItemView,
  BucketNow,
  MemberNow,
  ResourcePair,
  ItemChanges,
  RowsCompared,
  RowsInside,
  ShareNow,
  SystemTest,
} from '@lithodex/kinds';
import { Bytes, ByteString, Count, Instant } from './common';
import { ConnectionTest, TargetTest } from './estate';
import { ShareTest } from './shares';
import { CartridgesNeeded, type Question } from './mover';
import { InsideTest, Inventory, PlatformTest } from './platform';
import { AttachedAt } from './attached';
import { ComparedItem } from './recover';
import { Cartridge } from './storage';
import { RulesTried } from './scans';

const Nanoseconds = z.string().regex(/^-?\d{1,25}$/);
const Done = z.object({});

/** A folder or file as a mover sees it: its name is a byte string. */
const SeenItem = z.object({ name: ByteString, kind: z.string().max(20), size: Bytes, mtimeNs: Nanoseconds, readable: z.boolean() });

/** An item inside an item. */
const InsideItem = z.object({
  name: ByteString,
  kind: z.string().max(20),
  size: Bytes,
  mtimeNs: Nanoseconds,
  mode: Count,
  uid: Count,
  gid: Count,
  unread: z.boolean(),
  /** Why it can't be read, or what it holds; '' for nothing. */
  about: z.string().max(2000),
});
const OpenedFolder = z.object({ rows: z.array(InsideItem).max(1000), more: z.boolean() });
/** `whole`: all below it was counted; otherwise there is more than said. */
const OpenedItem = z.object({
  kind: z.string().max(20),
  /** Bytes of it and of all files below. */
  size: Bytes,
  items: Count,
  whole: z.boolean(),
  files: z.array(z.object({ path: ByteString, mtimeNs: Nanoseconds })).max(20_000),
});
export type OpenedItem = z.infer<typeof OpenedItem>;

/** What movers answer, by what they were asked. */
export const answers = {
  probe: ConnectionTest,
  discover: z.array(SeenItem).max(1_000_000),
  read: Done,
  rebuild: Done,
  systemTest: SystemTest,
  memberNow: MemberNow,
  bucketNow: BucketNow,
  shareNow: ShareNow,
  applicationLook: ApplicationLook,
  resourcePair: ResourcePair,
  tryRules: RulesTried,
  sensitiveIn: z.array(z.object({ before: z.string().max(200), text: z.string().max(5000), after: z.string().max(200) })).max(50),
  switchVolume: Done,
  removeVolume: Done,
  itemChanges: ItemChanges,
  mailStores: FoundMailStores,
  itemView: ItemView.nullable(),
  itemAttachment: AttachedFile,
  systemFinds: z.array(FoundWorkload).max(200_000),
  commits: z.array(DatabaseCommit).max(400),
  compareRows: RowsCompared,
  inside: DatabaseInside,
  rowsInside: RowsInside,
  compareInside: RowsCompared,
  endScratch: Done,
  swapTables: z.object({ remarks: z.array(z.string().max(2000)).max(1000) }),
  platformTest: PlatformTest,
  platformInventory: Inventory,
  takeSnapshots: z.object({ taken: z.array(z.object({ storage: z.string(), id: z.string() })) }),
  removeSnapshot: Done,
  removeMade: Done,
  insideTest: InsideTest,
  insideFiles: InsideLook,
  documentText: z.object({ text: z.string().max(500_000).nullable(), of: z.string().max(40), why: z.string().max(300) }),
  shareTest: ShareTest,
  targetTest: TargetTest,
  targetCreate: Done,
  targetTakeOver: Done,
  targetNewKey: Done,
  targetRoom: z.object({
    used: Bytes,
    free: Bytes.nullable(),
    /** Since when another installation owns the store; null where the one that asks does. */
    ownedElsewhere: Instant.nullable(),
    /** When the installations that follow the store read it last, the newest first. */
    followed: z.array(Instant).max(100),
  }),
  targetOwn: Done,
  keepSettings: Done,
  keptSettings: z.object({ at: Instant, text: z.string().max(50_000_000) }).nullable(),
  cartridges: z.object({ rows: z.array(Cartridge) }),
  cartridgesNeeded: CartridgesNeeded,
  envelope: z.string().max(100_000),
  compare: z.array(ComparedItem).max(1_000_000),
  attached: AttachedAt.nullable(),
  /** `data` in base64. */
  front: z.object({ kind: z.string().max(20), size: Bytes, data: z.string().max(3_000_000) }),
  openedFolder: OpenedFolder,
  openedItems: z.array(OpenedItem.nullable()).max(50_000),
  look: z.object({
    exist: Count,
    newer: Count,
    free: Bytes,
    writable: z.boolean(),
    nearest: ByteString,
    /** Why the mover would not write there at all; '' where it would. */
    refused: z.string().max(2000),
  }),
} as const satisfies Record<Question['ask'], z.ZodType>;

export type AnswerTo<Ask extends Question['ask']> = z.output<(typeof answers)[Ask]>;
