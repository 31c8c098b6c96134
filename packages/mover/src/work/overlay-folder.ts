import fs from 'node:fs';
import path from 'node:path';
import { SourceError } from '@lithodex/connectors';
import { formatBytes } from '@lithodex/core';
import type { TaskContext } from './task-context';

/**
 * Folder for what a machine writes that runs from the store: the mover's own, or one beneath a folder (byte string) that it may write to. One that is there from an earlier attempt is
 * gone on with. Throws OUT_OF_BOUNDS, OVERLAY_NO_ROOM.
 */
export function overlayFolder(
  { limits, overlays, task }: Pick<TaskContext, 'limits' | 'overlays' | 'task'>,
  { folder, most }: { readonly folder: string; readonly most: number },
): string {
  const above = folder === '' ? overlays : Buffer.from(folder, 'latin1').toString();
  if (folder === '') fs.mkdirSync(above, { recursive: true, mode: 0o700 });
  const fd = fs.openSync(above, fs.constants.O_RDONLY | fs.constants.O_DIRECTORY | fs.constants.O_NOFOLLOW);
  try {
    if (folder !== '') limits.checkWrite(fd, undefined);
  } finally {
    fs.closeSync(fd);
  }
  const own = path.join(above, `lithodex-machine-${task.id}`);
  if (!fs.existsSync(own)) {
    const { bavail, bsize } = fs.statfsSync(above);
    if (bavail * bsize < most)
      throw new SourceError('OVERLAY_NO_ROOM', `${formatBytes(bavail * bsize)} are free in ${above}, ${formatBytes(most)} were asked for`);
  }
  return own;
}
