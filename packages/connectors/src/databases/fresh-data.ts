import { spawnSync } from 'node:child_process';
import { createHash } from 'node:crypto';
import { existsSync, lstatSync, mkdirSync, mkdtempSync, readdirSync, realpathSync, renameSync, rmSync, statSync } from 'node:fs';
import { tmpdir } from 'node:os';
import path from 'node:path';

const filling = '.filling-';
/** What was left half filled so long ago belongs to nobody any more. */
const leftMs = 3_600_000;

/** A folder of our account alone, made on first use; undefined where one stands under its name that is not. */
function cacheFolder(): string | undefined {
  const uid = process.getuid?.() ?? 0;
  const folder = path.join(tmpdir(), `lithodex-fresh-${uid}`);
  if (!existsSync(folder)) mkdirSync(folder, { mode: 0o700, recursive: true });
  const stat = lstatSync(folder);
  return stat.isDirectory() && stat.uid === uid && (stat.mode & 0o077) === 0 ? folder : undefined;
}

function copyFolder(from: string, to: string): boolean {
  return spawnSync('cp', ['--archive', '--sparse=always', '--no-target-directory', '--', from, to]).status === 0;
}

/** Data folders of servers as their programs make them empty: making one takes seconds, so it is made once and copied. */
export class FreshData {
  private constructor(
    private readonly folder: string | undefined,
    private readonly key: string,
  ) {}

  /** Those that this program makes when it is run like that: another version of it makes its own. */
  static of(program: string, args: readonly string[]): FreshData {
    const found = [program, ...(process.env['PATH'] ?? '').split(':').map((folder) => path.join(folder, program))].find(
      (file) => path.isAbsolute(file) && existsSync(file),
    );
    const folder = cacheFolder();
    if (found === undefined || folder === undefined) return new FreshData(undefined, '');
    const file = realpathSync(found);
    const { mtimeMs, size } = statSync(file);
    const key = createHash('sha256')
      .update(JSON.stringify([file, mtimeMs, size, ...args]))
      .digest('hex')
      .slice(0, 32);
    return new FreshData(folder, key);
  }

  /** Puts one at `data`, which is not there yet. False where none was kept: it is to be made. */
  copyTo(data: string): boolean {
    if (this.folder === undefined || !existsSync(path.join(this.folder, this.key))) return false;
    if (copyFolder(path.join(this.folder, this.key), data)) return true;
    rmSync(data, { recursive: true, force: true });
    return false;
  }

  /** Keeps the one at `data`, which nobody has used yet. */
  keep(data: string): void {
    if (this.folder === undefined) return;
    for (const name of readdirSync(this.folder))
      if (
        name.startsWith(filling) &&
        Date.now() - (lstatSync(path.join(this.folder, name), { throwIfNoEntry: false })?.mtimeMs ?? 0) > leftMs
      )
        rmSync(path.join(this.folder, name), { recursive: true, force: true });
    const half = mkdtempSync(path.join(this.folder, filling));
    try {
      if (copyFolder(data, path.join(half, 'data'))) renameSync(path.join(half, 'data'), path.join(this.folder, this.key));
    } catch {
      // another process has kept the same meanwhile
    } finally {
      rmSync(half, { recursive: true, force: true });
    }
  }

  /** Forgets it: a server did not start from it. */
  forget(): void {
    if (this.folder !== undefined) rmSync(path.join(this.folder, this.key), { recursive: true, force: true });
  }
}
