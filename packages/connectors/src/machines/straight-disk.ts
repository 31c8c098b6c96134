import fs from 'node:fs';
import { bytesOfText, lengthOf, type DiskRange } from '@lithodex/core';
import { closeFile, EngineError, inFolder, openTop, systemCode } from '@lithodex/engine';
import type { HostLimits } from '../files/host-limits';
import type { PlatformClient } from './platform-client';
import type { PlatformDisk } from './platform-types';

/** A disk of a machine where it lies on its storage, for a mover that sees that storage: nothing goes over the network. */
export interface StraightDisk {
  /** The bytes of ranges, one behind the other. Throws STOPPED once it is closed, as does writing. */
  read(ranges: readonly DiskRange[]): Buffer;
  /** Writes the bytes of ranges, one behind the other. The platform has to be told before. */
  write(ranges: readonly DiskRange[], data: readonly Uint8Array[]): void;
  close(): void;
}

/** Opens a disk where it lies; gives in words why that can't be where it can't. Throws SourceError. */
export async function openStraight(
  client: Pick<PlatformClient, 'diskPlace'>,
  machineId: string,
  disk: PlatformDisk,
  { limits, writes }: { readonly limits: HostLimits; readonly writes: boolean },
): Promise<StraightDisk | string> {
  const place = await client.diskPlace(machineId, disk.id);
  if (!place) return 'the platform does not say where it lies';
  const { folder, file } = place;
  if (!/^[^/\0]{1,255}$/.test(file) || file === '.' || file === '..') return 'the platform names no file';
  let fd: number;
  try {
    fd = openWithin(bytesOfText(folder), bytesOfText(file), limits, writes);
  } catch (error) {
    const known = error instanceof EngineError ? error.message : systemCode(error);
    if (known === undefined) throw error;
    return `the mover does not see it at ${folder} (${known})`;
  }
  const { size } = fs.fstatSync(fd);
  if (size !== disk.size) {
    fs.closeSync(fd);
    return `what lies at ${folder} has another size`;
  }
  let isOpen = true;
  // work that was under way when a task broke off must not reach whatever gets the number of the file next
  const checkOpen = () => {
    if (!isOpen) throw new EngineError('STOPPED');
  };
  return {
    read(ranges) {
      checkOpen();
      const data = Buffer.allocUnsafe(lengthOf(ranges));
      let at = 0;
      for (const [offset, length] of ranges) {
        if (fs.readSync(fd, data, at, length, offset) !== length)
          throw new EngineError('OBJECT_DAMAGED', 'a disk that ends before its end');
        at += length;
      }
      return data;
    },
    write(ranges, data) {
      checkOpen();
      const bytes = Buffer.concat(data);
      let at = 0;
      for (const [offset, length] of ranges) {
        fs.writeSync(fd, bytes, at, length, offset);
        at += length;
      }
    },
    close() {
      isOpen = false;
      if (writes) fs.fsyncSync(fd);
      fs.closeSync(fd);
    },
  };
}

/** A plain file in a folder that the mover may use: no link leads to it. Throws the system's error, LEADS_AWAY, OUT_OF_BOUNDS. */
function openWithin(folder: string, file: string, limits: HostLimits, writes: boolean): number {
  const open = openTop(folder);
  try {
    limits.checkRead(open);
    if (writes) limits.checkWrite(open, undefined);
    if (limits.ownNames(folder)?.has(file)) throw new EngineError('OUT_OF_BOUNDS', 'the mover keeps its own things there');
    const { O_RDONLY, O_RDWR, O_NOFOLLOW, O_NONBLOCK } = fs.constants;
    const fd = fs.openSync(inFolder(open, file), (writes ? O_RDWR : O_RDONLY) | O_NOFOLLOW | O_NONBLOCK);
    if (fs.fstatSync(fd).isFile()) return fd;
    fs.closeSync(fd);
    throw new EngineError('LEADS_AWAY', 'no file');
  } finally {
    closeFile(open);
  }
}
