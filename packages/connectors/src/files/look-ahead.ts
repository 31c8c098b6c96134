import fs from 'node:fs';
import path from 'node:path';
import { withShortPath } from '@lithodex/engine';

export interface LookAhead {
  /** Places where something exists, and those of them that are newer than what would be written. */
  readonly exist: number;
  readonly newer: number;
  readonly free: number;
  readonly writable: boolean;
  /** The nearest folder of the destination that exists, byte string. */
  readonly nearest: string;
}

/** Looks at a destination before a restore. Paths are absolute byte strings. */
export function lookAhead(places: readonly { path: string; mtimeNs: string }[], destination: string): LookAhead {
  let exist = 0;
  let newer = 0;
  for (const place of places) {
    const there = withShortPath(place.path, (p) => {
      try {
        return fs.lstatSync(p, { bigint: true });
      } catch {
        return undefined;
      }
    });
    if (!there) continue;
    exist++;
    if (there.mtimeNs > BigInt(place.mtimeNs)) newer++;
  }
  let nearest = destination;
  while (nearest !== '/' && !fs.existsSync(Buffer.from(nearest, 'latin1'))) nearest = path.posix.dirname(nearest);
  const at = Buffer.from(nearest, 'latin1');
  const { bavail, bsize } = fs.statfsSync(at);
  let writable = fs.statSync(at).isDirectory();
  try {
    fs.accessSync(at, fs.constants.W_OK);
  } catch {
    writable = false;
  }
  return { exist, newer, free: bavail * bsize, writable, nearest };
}
