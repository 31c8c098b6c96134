import fs from 'node:fs';
import {
  closeFile,
  createNameless,
  EngineError,
  inFolder,
  nameOpenFile,
  systemCode,
  writeAt,
  type EntryCursor,
  type TreeEntry,
} from '@lithodex/engine';
import { RangeCursor } from './content-check';
import { applyMetadataOpen, propertiesOf } from './metadata';

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

/** Where the content of a file comes from, chunk after chunk; undefined at the end. Waiting is asked for only where it is needed. */
export type ChunkSource = () => Buffer | undefined | Promise<Buffer | undefined>;

const { O_RDWR, O_CREAT, O_EXCL } = fs.constants;

/**
 * Makes a file from its chunks: whole and with its properties before it has its name, so that whatever happens there is never a part of it under that name. Returns the
 * properties that could not be set. Throws what the system and `next` throw.
 */
export async function placeFile(file: FileToPlace, next: ChunkSource): Promise<readonly string[]> {
  const { folder, entry } = file;
  const fd = createNameless(folder);
  // a file without a name is several times faster, and a kill leaves nothing
  if (fd < 0) return placeNamed(file, next);
  try {
    await fill(fd, entry, next);
    const failed = applyMetadataOpen(fd, propertiesOf(entry));
    nameOpenFile(fd, folder, file.replace ? file.temporary : entry.name);
    if (file.replace) renameTemporary(file);
    return failed;
  } finally {
    closeFile(fd);
  }
}

/**
 * The same for a file as it is stored that nothing but its one chunk (none where it is empty) and its usual properties belongs to, which is how most files are: nothing is waited for, and no more
 * objects are made than needed. Undefined where the file system has no files without a name.
 */
export function placePlain(folder: number, at: EntryCursor, data: Buffer | undefined): readonly string[] | undefined {
  const fd = createNameless(folder);
  if (fd < 0) return undefined;
  try {
    if (data) writeAt(fd, data, 0);
    const { kind, uid, gid, mode, mtimeSeconds, mtimeNanos } = at;
    const failed = applyMetadataOpen(fd, { kind, uid, gid, mode, mtime: { seconds: mtimeSeconds, nanos: mtimeNanos } });
    nameOpenFile(fd, folder, at.name);
    return failed;
  } finally {
    closeFile(fd);
  }
}

function renameTemporary({ folder, temporary, entry }: FileToPlace): void {
  try {
    fs.renameSync(inFolder(folder, temporary), inFolder(folder, entry.name));
  } catch (error) {
    fs.rmSync(inFolder(folder, temporary), { force: true });
    throw error;
  }
}

/** The same where a file must have a name from the start. */
async function placeNamed(file: FileToPlace, next: ChunkSource): Promise<readonly string[]> {
  const { folder, entry } = file;
  const temporary = inFolder(folder, file.temporary);
  fs.rmSync(temporary, { force: true });
  const fd = fs.openSync(temporary, O_RDWR | O_CREAT | O_EXCL, 0o600);
  try {
    await fill(fd, entry, next);
    const failed = applyMetadataOpen(fd, propertiesOf(entry));
    const final = inFolder(folder, entry.name);
    if (file.replace) fs.renameSync(temporary, final);
    else {
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

async function fill(fd: number, entry: TreeEntry, next: ChunkSource): Promise<void> {
  const places = new RangeCursor(entry.ranges ?? [[0, entry.size]]);
  let end = 0;
  for (;;) {
    const got = next();
    const data = got instanceof Promise ? await got : got;
    if (!data) break;
    for (const { at, offset, count } of places.next(data.length)) {
      writeAt(fd, data.subarray(at, at + count), offset);
      end = offset + count;
    }
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
