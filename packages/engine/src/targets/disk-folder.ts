import { randomBytes } from 'node:crypto';
import fs from 'node:fs';
import path from 'node:path';
import { EngineError, systemCode } from '../errors';
import type { Paced } from './pace';
import type { TargetPlace } from './place';
import type { Room, Target } from './target';

function translate(error: unknown, name: string): EngineError {
  const code = systemCode(error);
  if (code === 'ENOENT') return new EngineError('OBJECT_MISSING', name, { cause: error });
  if (code === 'ENOSPC' || code === 'EDQUOT') return new EngineError('TARGET_FULL', name, { cause: error });
  return new EngineError('TARGET_REFUSED', `${name}: ${code ?? String(error)}`, { cause: error });
}

/** Makes a file or folder durable. */
function sync(file: string): void {
  const fd = fs.openSync(file, 'r');
  try {
    fs.fsyncSync(fd);
  } finally {
    fs.closeSync(fd);
  }
}

/** A folder of a disk. Objects are written to `staging/`, made durable, then linked or renamed to their name. */
export class DiskFolder implements Target {
  readonly description: string;
  readonly place: TargetPlace;
  private readonly openFiles = new Map<string, number>();

  constructor(
    readonly folder: string,
    { pace }: Paced = {},
  ) {
    this.description = folder;
    this.place = { kind: 'folder', folder, ...(pace && { pace }) };
  }

  private fileOf(name: string): string {
    return path.join(this.folder, name);
  }

  private async make<T>(name: string, data: Uint8Array, settle: (staged: string, final: string) => T): Promise<T> {
    const final = this.fileOf(name);
    const staged = path.join(this.folder, 'staging', randomBytes(12).toString('hex'));
    try {
      if (!fs.existsSync(this.folder)) throw new EngineError('TARGET_MISSING', this.folder);
      fs.mkdirSync(path.dirname(staged), { recursive: true, mode: 0o700 });
      this.folderFor(path.dirname(final));
      const fd = fs.openSync(staged, 'wx', 0o600);
      try {
        for (let at = 0; at < data.length;) at += fs.writeSync(fd, data, at, Math.min(8 << 20, data.length - at));
        fs.fsyncSync(fd);
      } finally {
        fs.closeSync(fd);
      }
      const result = settle(staged, final);
      sync(path.dirname(final));
      return result;
    } catch (error) {
      try {
        fs.rmSync(staged, { force: true });
      } catch {
        // what went wrong first is what counts; a leftover in staging is of no meaning
      }
      throw error instanceof EngineError ? error : translate(error, name);
    }
  }

  /** Makes a folder durable: every newly made level is synced into its parent. */
  private folderFor(folder: string): void {
    const first = fs.mkdirSync(folder, { recursive: true, mode: 0o700 });
    if (first === undefined) return;
    for (let at = folder; at.length >= first.length; at = path.dirname(at)) sync(path.dirname(at));
  }

  put(name: string, data: Uint8Array): Promise<void> {
    return this.make(name, data, (staged, final) => {
      fs.renameSync(staged, final);
    });
  }

  putExclusive(name: string, data: Uint8Array, lockedUntil = 0): Promise<boolean> {
    return this.make(name, data, (staged, final) => {
      try {
        if (lockedUntil > Date.now()) lockFile(staged, lockedUntil);
        fs.linkSync(staged, final);
        return true;
      } catch (error) {
        if (systemCode(error) === 'EEXIST') return false;
        throw error;
      } finally {
        fs.rmSync(staged, { force: true });
      }
    });
  }

  async read(name: string): Promise<Buffer> {
    try {
      return fs.readFileSync(this.fileOf(name));
    } catch (error) {
      throw translate(error, name);
    }
  }

  async readKept(name: string): Promise<Buffer[]> {
    return [await this.read(name)];
  }

  async readRange(name: string, offset: number, length: number, into?: Buffer): Promise<Buffer> {
    try {
      const fd = this.openFiles.get(name) ?? this.keepOpen(name);
      const data = into?.subarray(0, length) ?? Buffer.allocUnsafe(length);
      const got = fs.readSync(fd, data, 0, length, offset);
      if (got !== length) throw new EngineError('OBJECT_DAMAGED', `${name} is cut short`);
      return data;
    } catch (error) {
      throw error instanceof EngineError ? error : translate(error, name);
    }
  }

  private keepOpen(name: string): number {
    if (this.openFiles.size >= 64) {
      const [oldest, fd] = this.openFiles.entries().next().value!;
      fs.closeSync(fd);
      this.openFiles.delete(oldest);
    }
    const fd = fs.openSync(this.fileOf(name), 'r');
    this.openFiles.set(name, fd);
    return fd;
  }

  async list(prefix: string): Promise<string[]> {
    try {
      return fs.readdirSync(this.fileOf(prefix)).sort();
    } catch (error) {
      if (systemCode(error) === 'ENOENT') return [];
      throw translate(error, prefix);
    }
  }

  async listDeep(prefix: string): Promise<string[]> {
    const names: string[] = [];
    const walk = (below: string) => {
      for (const entry of fs.readdirSync(this.fileOf(prefix + below), { withFileTypes: true }))
        if (entry.isDirectory()) walk(`${below}${entry.name}/`);
        else names.push(below + entry.name);
    };
    try {
      walk('');
      return names;
    } catch (error) {
      if (systemCode(error) === 'ENOENT') return [];
      throw translate(error, prefix);
    }
  }

  async remove(name: string): Promise<void> {
    try {
      const open = this.openFiles.get(name);
      if (open !== undefined) fs.closeSync(open);
      this.openFiles.delete(name);
      if (!fs.existsSync(this.folder)) throw new EngineError('TARGET_MISSING', this.folder);
      const file = this.fileOf(name);
      if (!fs.existsSync(path.dirname(file))) return;
      if (lockOf(file) > Date.now()) throw new EngineError('OBJECT_LOCKED', name);
      fs.rmSync(file, { force: true });
      sync(path.dirname(file));
    } catch (error) {
      if (error instanceof EngineError) throw error;
      throw translate(error, name);
    }
  }

  async lock(name: string, until: number): Promise<void> {
    const file = this.fileOf(name);
    try {
      if (until <= Math.max(Date.now(), lockOf(file))) return;
      lockFile(file, until);
      sync(file);
    } catch (error) {
      throw translate(error, name);
    }
  }

  async lockedUntil(name: string): Promise<number> {
    return lockOf(this.fileOf(name));
  }

  /** What was put over a file is all there is. */
  async reveal(): Promise<boolean> {
    return false;
  }

  async room(): Promise<Room> {
    try {
      const { bavail, bsize } = fs.statfsSync(this.folder);
      return { used: sizeBelow(this.folder), free: bavail * bsize };
    } catch (error) {
      throw translate(error, this.folder);
    }
  }

  close(): void {
    for (const fd of this.openFiles.values()) fs.closeSync(fd);
    this.openFiles.clear();
  }
}

/**
 * A locked file is read-only and its time of change lies in the future: at the end of the lock. Every file system keeps both. The store refuses to remove such a file; whoever
 * may write to the disk by other means can.
 */
function lockFile(file: string, until: number): void {
  fs.chmodSync(file, 0o400);
  fs.utimesSync(file, until / 1000, until / 1000);
}

function lockOf(file: string): number {
  const found = fs.statSync(file, { throwIfNoEntry: false });
  return found && (found.mode & 0o222) === 0 && found.mtimeMs > Date.now() ? Math.round(found.mtimeMs) : 0;
}

function sizeBelow(folder: string): number {
  let sum = 0;
  for (const entry of fs.readdirSync(folder, { withFileTypes: true })) {
    const at = path.join(folder, entry.name);
    if (entry.isDirectory()) sum += sizeBelow(at);
    else sum += fs.statSync(at, { throwIfNoEntry: false })?.size ?? 0;
  }
  return sum;
}
