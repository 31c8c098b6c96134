import type { UnitFacts } from '@lithodex/kinds';
import type { Order } from './unit-messages';

/** What a unit can do with its disks: those of a machine, or files that stand for them. */
export interface UnitHands {
  /** What the machine is, and what is on its disks now. */
  facts(): Promise<UnitFacts>;
  /** The task that began to make a disk anew and was cut off, by the disk's id. */
  halfMade(): Promise<ReadonlyMap<string, string>>;
  /** Begins to make the disks of an order anew; what is on them is gone from then on. */
  begin(order: Order, phase: (name: string) => void): Promise<UnitDisksBegun>;
}

export interface UnitDisksBegun {
  /** Opens an empty folder for the files of a volume, by its device; undefined where it has no place. */
  folderOf(device: string): Promise<string | undefined>;
  /** Ends when all of it is on the disks, and nothing else is left. */
  finish(): Promise<void>;
  /** Leaves the disks as they are, not to be started from. */
  giveUp(): Promise<void>;
}
