import fs from 'node:fs';
import { EngineError, inFolder, posix, systemCode, type TreeEntry } from '@lithodex/engine';
import { RangeCursor } from './content-check';
import { applyMetadataOpen } from './metadata';

/** A file to be made in an open folder. */
export interface FileToPlace {
  /** Descriptor of the folder; it stays open until the file has been placed. */
  readonly folder: number;
  /** Its name is the one the file gets. */
  readonly entry: TreeEntry;
  /** Name it has meanwhile, where it needs one. */
  readonly temporary: string;
  /** Takes the place of what has this name; otherwise nothing of the name may exist. */
  readonly replace: boolean;
}

const { O_RDWR, O_CREAT, O_EXCL } = fs.constants;

/**
 * Makes a file from its chunks: whole and with its properties before it has its name, so that whatever happens there is never a part of it under that name. Returns the
 * properties that could not be set. Throws what the system and `chunks` throw.
 */
export async function placeFile(file: FileToPlace, chunks: AsyncIterable<Buffer>): Promise<string[]> {
  const { folder, entry } = file;
  const temporary = inFolder(folder, file.temporary);
  const { fd, named } = openNew(folder, temporary);
  try {
    await fill(fd, entry, chunks);
    const failed = applyMetadataOpen(fd, entry);
    const final = inFolder(folder, entry.name);
    if (!named) posix.nameOpenFile(fd, folder, file.replace ? file.temporary : entry.name);
    if (file.replace) fs.renameSync(temporary, final);
    else if (named) {
      fs.linkSync(temporary, final);
      fs.unlinkSync(temporary);
    }
    return failed;
  } catch (error) {
    fs.rmSync(temporary, { force: true });
    throw error;
  } finally {
    fs.closeSync(fd);
  }
}

/**
 * A new file for writing: without a name until it is whole, where the file system can do that (a kill then leaves nothing, and it is several times faster than making a
 * name first); under the name `at` elsewhere.
 */
function openNew(folder: number, at: Buffer): { fd: number; named: boolean } {
  const withoutName = 0o20200000;
  try {
    return { fd: fs.openSync(`/proc/self/fd/${folder}/.`, withoutName | O_RDWR, 0o600), named: false };
  } catch {
    fs.rmSync(at, { force: true });
    return { fd: fs.openSync(at, O_RDWR | O_CREAT | O_EXCL, 0o600), named: true };
  }
}

async function fill(fd: number, entry: TreeEntry, chunks: AsyncIterable<Buffer>): Promise<void> {
  const places = new RangeCursor(entry.ranges ?? [[0, entry.size]]);
  let end = 0;
  for await (const data of chunks)
    for (const { at, offset, count } of places.next(data.length)) {
      for (let done = 0; done < count;) done += fs.writeSync(fd, data, at + done, count - done, offset + done);
      end = offset + count;
    }
  if (!places.finished) throw new EngineError('OBJECT_DAMAGED', 'the content is shorter than the file');
  if (end !== entry.size) fs.ftruncateSync(fd, entry.size);
}

/** Why an item could not be written, in words. */
export function reason(error: unknown): string {
  const code = systemCode(error);
  switch (code) {
    case 'ELOOP':
    case 'ENOTDIR':
      return 'something that is not a folder is in the way; links are not followed';
    case 'EEXIST':
      return 'something of this name appeared meanwhile and was left';
    case 'EACCES':
    case 'EPERM':
    case 'EROFS':
      return `the mover may not write here (${code})`;
    default:
      return error instanceof Error ? error.message : String(error);
  }
}
