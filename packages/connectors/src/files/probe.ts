import fs from 'node:fs';
import { joinPath } from '@lithodex/core';
import { posix, systemCode, withShortPath } from '@lithodex/engine';
import { accountOf } from './accounts';
import { describeEntry, listNames, statEntry } from './folder-listing';

export interface ProbeFinding {
  readonly level: 'fault' | 'warning';
  /** Byte string below the root. */
  readonly path: string;
  readonly message: string;
  /** What the missing right is needed for. */
  readonly neededFor: string;
}

export interface ProbeResult {
  readonly ok: boolean;
  readonly findings: ProbeFinding[];
  readonly looked: number;
  /** False when the look stopped before the end, as it may take a while on large trees. */
  readonly complete: boolean;
}

const mostLooked = 20_000;
const mostFindings = 50;

/** Tests a connection: can the root and what is below be read with this account, and what can not. Looks at a bounded number of entries. */
export function probe(root: string, user: string | undefined): ProbeResult {
  const findings: ProbeFinding[] = [];
  const account = user ? accountOf(user) : undefined;
  const fault = (message: string, neededFor: string): ProbeResult => {
    findings.push({ level: 'fault', path: '', message, neededFor });
    return { ok: false, findings, looked: 0, complete: true };
  };
  if (user && !account) return fault(`The mover's machine has no account named ${user}.`, 'to read the source with its rights');
  if (!root.startsWith('/')) return fault('The folder must be given from the root, starting with /.', 'to find it on the mover');
  try {
    if (!posix.asAccount(account, () => fs.statSync(Buffer.from(root, 'latin1')).isDirectory()))
      return fault('This is not a folder.', 'to read its content');
  } catch (error) {
    return fault(
      systemCode(error) === 'ENOENT' ? 'There is no such folder on the mover.' : `The folder can not be reached (${systemCode(error)}).`,
      'to read its content',
    );
  }
  const waiting = [''];
  let looked = 0;
  while (waiting.length && looked < mostLooked && findings.length < mostFindings) {
    const folder = waiting.shift()!;
    try {
      posix.asAccount(account, () => {
        for (const name of listNames(joinPath(root, folder))) {
          looked++;
          const path = joinPath(folder, name);
          const stat = statEntry(`${root}/${path}`);
          if (stat.isDirectory()) waiting.push(path);
          else if (stat.isFile() && findings.length < mostFindings) tryOpen(`${root}/${path}`, path, findings);
        }
      });
    } catch (error) {
      findings.push({
        level: 'warning',
        path: folder,
        message: `Can not be read (${systemCode(error) ?? String(error)}).`,
        neededFor: 'to protect what is inside: it will be missing from every point',
      });
    }
  }
  return { ok: true, findings, looked, complete: waiting.length === 0 };
}

function tryOpen(absolute: string, path: string, findings: ProbeFinding[]): void {
  try {
    fs.closeSync(withShortPath(absolute, (p) => fs.openSync(p, fs.constants.O_RDONLY | fs.constants.O_NOFOLLOW | fs.constants.O_NONBLOCK)));
  } catch (error) {
    findings.push({
      level: 'warning',
      path,
      message: `Can not be opened (${systemCode(error) ?? String(error)}).`,
      neededFor: 'to protect its content: it will be missing from every point',
    });
  }
}

export interface DiscoveredFolder {
  readonly name: string;
  readonly kind: string;
  readonly size: number;
  readonly mtimeNs: bigint;
  readonly readable: boolean;
}

/** Folders and files directly below a path, folders first. Throws the system's error. */
export function discover(root: string, path: string, user: string | undefined): DiscoveredFolder[] {
  const account = user ? accountOf(user) : undefined;
  const base = path === '' ? root : `${root}/${path}`;
  return posix.asAccount(account, () =>
    listNames(base)
      .flatMap((name): DiscoveredFolder[] => {
        try {
          const entry = describeEntry(`${base}/${name}`, name, statEntry(`${base}/${name}`));
          const readable = entry.kind !== 'folder' || canList(`${base}/${name}`);
          return [{ name, kind: entry.kind, size: entry.size, mtimeNs: entry.mtimeNs, readable }];
        } catch {
          return [];
        }
      })
      .sort((a, b) => Number(b.kind === 'folder') - Number(a.kind === 'folder')),
  );
}

function canList(path: string): boolean {
  try {
    fs.closeSync(fs.openSync(Buffer.from(path, 'latin1'), fs.constants.O_RDONLY | fs.constants.O_DIRECTORY));
    return true;
  } catch {
    return false;
  }
}
