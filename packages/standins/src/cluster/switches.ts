/** What can be made to go wrong in a cluster. */
export interface ClusterSwitches {
  /** Every request is answered with 503. */
  down: boolean;
  /** So many of the next requests are told to come again. */
  throttled: number;
  /** Snapshots of volumes fail. */
  failSnapshots: boolean;
  /** Images that can not be fetched. */
  missingImages: string[];
  /** Pods become ready so late, ms. */
  startMs: number;
  /** Programs that never end in pods. */
  hangs: string[];
  /** Programs that end with 1 in pods. */
  fails: string[];
}

export const clusterFine: ClusterSwitches = {
  down: false,
  throttled: 0,
  failSnapshots: false,
  missingImages: [],
  startMs: 0,
  hangs: [],
  fails: [],
};
