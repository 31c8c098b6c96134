import { spawnSync } from 'node:child_process';
import path from 'node:path';

/** A program of its own, so that no more is loaded than a mover has. */
const program = path.join(path.dirname(process.argv[1]!), 'bench-work.js');

/** What a piece of work took, measured in a process of its own. */
export interface Measured {
  readonly seconds: number;
  readonly peakMb: number;
  /** Bytes that came to the target. */
  readonly stored: number;
  /** Chunks on the target afterwards, those of folders included. */
  readonly chunks: number;
}

/** Does a piece of work of `store-work` in a process of its own. */
export function inProcess(...args: string[]): Measured {
  const { stdout, status, stderr } = spawnSync(process.execPath, [program, ...args], { encoding: 'utf8', maxBuffer: 1 << 24 });
  if (status !== 0) throw new Error(stderr);
  return JSON.parse(stdout) as Measured;
}
