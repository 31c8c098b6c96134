/** What can be made to go wrong on the platform. Machines are told by name. */
export interface PlatformSwitches {
  /** Time each request waits, ms. */
  readonly delayMs: number;
  readonly down: boolean;
  /** Snapshots of these fail. */
  readonly snapshotFails: readonly string[];
  /** Bringing these to rest fails. */
  readonly quiesceFails: readonly string[];
  /** These storages take nothing more. */
  readonly full: readonly string[];
}

export const platformFine: PlatformSwitches = { delayMs: 0, down: false, snapshotFails: [], quiesceFails: [], full: [] };
