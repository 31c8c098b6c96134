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
  /** Commands in pods never end. */
  commandsHang: boolean;
  /** Commands in pods end with 1. */
  commandsFail: boolean;
}

export const clusterFine: ClusterSwitches = {
  down: false,
  throttled: 0,
  failSnapshots: false,
  missingImages: [],
  startMs: 0,
  commandsHang: false,
  commandsFail: false,
};
