import { lstatSync, mkdtempSync, readdirSync, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import path from 'node:path';

type Purpose = 'scratch' | 'log' | 'kept' | 'attached' | 'share' | 'shown' | 'scanned';
const named = (what: Purpose) => `lithodex-${what}-`;

function isAlive(pid: number): boolean {
  try {
    process.kill(pid, 0);
    return true;
  } catch {
    return false;
  }
}

/** A folder of this process for a while. Those that killed processes left are removed first. */
export function ownFolder(what: Purpose): string {
  const begin = named(what);
  for (const name of readdirSync(tmpdir())) {
    const pid = name.startsWith(begin) ? Number(/^\d+/.exec(name.slice(begin.length))?.[0] ?? NaN) : NaN;
    if (Number.isSafeInteger(pid) && pid > 0 && !isAlive(pid)) rmSync(path.join(tmpdir(), name), { recursive: true, force: true });
  }
  return mkdtempSync(path.join(tmpdir(), `${begin}${process.pid}-`));
}

/** All folders of this process for a purpose. Those that others made under such names are none. */
export function ownFoldersOf(what: Purpose): string[] {
  const begin = `${named(what)}${process.pid}-`;
  return readdirSync(tmpdir())
    .filter((name) => name.startsWith(begin))
    .map((name) => path.join(tmpdir(), name))
    .filter((folder) => {
      const stat = lstatSync(folder, { throwIfNoEntry: false });
      return stat?.isDirectory() === true && stat.uid === process.getuid?.();
    });
}
