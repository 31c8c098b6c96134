import fs from 'node:fs';
import { baseName, parentPath } from '@lithodex/core';
import { closeFile, EngineError, openFolderBeneath, openTop, systemCode } from '@lithodex/engine';
import { factsIn } from './folder-listing';
import type { HostLimits } from './host-limits';

/** A place below a destination. */
export interface Place {
  /** Absolute path of the destination, byte string. */
  readonly base: string;
  /** Below it. */
  readonly path: string;
  readonly mtimeNs: string;
}

export interface LookAhead {
  /** Places where something exists, and those of them that are newer than what would be written. */
  readonly exist: number;
  readonly newer: number;
  readonly free: number;
  readonly writable: boolean;
  /** The nearest folder of the destination that exists, byte string. */
  readonly nearest: string;
  /** Why the mover would not write there at all; '' where it would. */
  readonly refused: string;
}

/**
 * Looks at a destination before a restore, as the restore will: beneath it, never through a link, within the limits of the mover.
 * @param cameFrom where everything was taken that would be written there; undefined where it comes from several places
 */
export function lookAhead(places: readonly Place[], destination: string, limits: HostLimits, cameFrom: string | undefined): LookAhead {
  let exist = 0;
  let newer = 0;
  const room = roomAt(destination, limits, cameFrom);
  const tops = new Map<string, number | undefined>();
  try {
    for (const { base, path, mtimeNs } of places) {
      // what is refused is not looked at either
      if (room.refused) break;
      if (!tops.has(base))
        tops.set(
          base,
          absentOr(() => openTop(base)),
        );
      const top = tops.get(base);
      const there = top === undefined ? undefined : absentOr(() => factsAt(top, path));
      if (!there) continue;
      exist++;
      if (there.mtimeNs > BigInt(mtimeNs)) newer++;
    }
  } finally {
    for (const top of tops.values()) if (top !== undefined) closeFile(top);
  }
  return { exist, newer, ...room };
}

function factsAt(top: number, path: string): fs.BigIntStats | undefined {
  const folder = openFolderBeneath(top, parentPath(path));
  try {
    return factsIn(folder, baseName(path));
  } finally {
    closeFile(folder);
  }
}

/** What a look gives; undefined where nothing is there. */
function absentOr<T>(look: () => T): T | undefined {
  try {
    return look();
  } catch (error) {
    if (['ENOENT', 'ENOTDIR', 'ELOOP', 'EACCES'].includes(systemCode(error) ?? '')) return undefined;
    throw error;
  }
}

function roomAt(destination: string, limits: HostLimits, cameFrom: string | undefined): Omit<LookAhead, 'exist' | 'newer'> {
  for (let nearest = destination; ; nearest = parentPath(nearest) || '/') {
    let top: number;
    try {
      top = openTop(nearest);
    } catch (error) {
      const code = systemCode(error);
      if (nearest !== '/' && code === 'ENOENT') continue;
      return {
        free: 0,
        writable: false,
        nearest,
        refused: error instanceof EngineError ? error.message : code === 'ENOTDIR' ? '' : String(error),
      };
    }
    try {
      const at = `/proc/self/fd/${top}`;
      const { bavail, bsize } = fs.statfsSync(at);
      return { free: bavail * bsize, writable: mayWrite(at), nearest, refused: refusal(top, limits, cameFrom) };
    } finally {
      closeFile(top);
    }
  }
}

function refusal(top: number, limits: HostLimits, cameFrom: string | undefined): string {
  try {
    limits.checkWrite(top, cameFrom);
    return '';
  } catch (error) {
    if (error instanceof EngineError) return error.message;
    throw error;
  }
}

function mayWrite(folder: string): boolean {
  try {
    fs.accessSync(folder, fs.constants.W_OK);
    return true;
  } catch {
    return false;
  }
}
