import { ThreadPool, type KeySet, type PoolThread, type TargetPlace } from '@lithodex/engine';

interface PlaceData {
  readonly place: TargetPlace;
  readonly nameKey: Uint8Array;
  readonly dataKey: Uint8Array;
}
export type PlaceStart = PlaceData & PoolThread;
export type PlaceRequest =
  | { readonly type: 'files'; readonly id: number; readonly batch: Uint8Array }
  /** Nothing more for now: what is kept open of the target is closed, so that objects removed there give back their room. */
  | { readonly type: 'rest' };
/** What did not go plainly well, by number in the batch. */
export interface PlaceProblem {
  readonly at: number;
  readonly failed: string;
  readonly notSet: readonly string[];
  readonly fatal?: { readonly code: string; readonly details: string };
  readonly lost?: boolean;
}
export type PlaceReply =
  | { readonly type: 'bytes'; readonly bytes: number }
  | { readonly type: 'placed'; readonly id: number; readonly problems: readonly PlaceProblem[] };

/** Who is told what the threads have done. */
export interface PlaceReceiver {
  onBytes(bytes: number): void;
  onPlaced(id: number, problems: readonly PlaceProblem[]): void;
  onBroken(error: Error): void;
}

export const placeThreads = 2;

/** Threads that make files from what lies on a target, for one placer after another. */
export class PlacePool extends ThreadPool<PlaceRequest, PlaceReply> {
  /** The placer that uses the threads. */
  receiver: PlaceReceiver | undefined;

  constructor(keys: KeySet, place: TargetPlace) {
    const data: PlaceData = { place, nameKey: keys.nameKey, dataKey: keys.dataKey };
    super(data, {
      file: 'place-thread',
      size: placeThreads,
      mostWaiting: 16,
      onReply: (reply) => {
        if (reply.type === 'bytes') this.receiver?.onBytes(reply.bytes);
        else this.receiver?.onPlaced(reply.id, reply.problems);
        return reply.type === 'placed';
      },
      onBroken: (error) => this.receiver?.onBroken(error),
    });
  }
}
