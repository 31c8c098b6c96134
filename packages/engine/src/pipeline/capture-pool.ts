import type { BlockJob, BlocksDone, SegmentDone } from './crunch';
import type { FileJobs } from './file-reading';
import type { FileResult } from './file-results';

/** What a capture hands over to be cut, named and stored: to threads here, or to another mover. Every function throws what that failed with. */
export interface CapturePool {
  /** Files to be read and stored; resolves when there is room for more. `weight`: see {@link weightOf}. `done` runs for every file later, with its number among the jobs. */
  submit(jobs: FileJobs, weight: number, done: (result: FileResult, at: number) => void): Promise<void>;
  /** Blocks of an image, whose memory is handed over. */
  blocks(job: BlockJob): Promise<BlocksDone>;
  /** A piece of a stream, whose memory is handed over, or not touched before it is stored; resolves when it is taken, `done` when it is stored. */
  segment(data: Uint8Array): Promise<{ readonly done: Promise<SegmentDone> }>;
  /** Memory for a piece of a stream. */
  segmentMemory(): ArrayBufferLike;
  /** Lets what has come meanwhile be heard. */
  breathe(): Promise<void>;
  /** Waits until everything is stored. */
  idle(): Promise<void>;
}
