/** What can be made to go wrong on the platform. Machines are told by name. */
export interface PlatformSwitches {
  /** Time each request waits, ms. */
  readonly delayMs: number;
  /** Bytes a second at which disks are sent, over all connections; null for as fast as it goes. */
  readonly lineRate: number | null;
  readonly down: boolean;
  /** Snapshots of these fail. */
  readonly snapshotFails: readonly string[];
  /** Bringing these to rest fails. */
  readonly quiesceFails: readonly string[];
  /** These storages take nothing more. */
  readonly full: readonly string[];
  /** Disks can be moved from one place to another while their machine runs. */
  readonly movesWhileRunning: boolean;
}

export const platformFine: PlatformSwitches = {
  delayMs: 0,
  lineRate: null,
  down: false,
  snapshotFails: [],
  quiesceFails: [],
  full: [],
  movesWhileRunning: true,
};
