import fs from 'node:fs';
import { joinPath } from '@lithodex/core';
import { closeFile, EngineError, openFolderBeneath, openIn, systemCode } from '@lithodex/engine';
import { describeIn, factsIn, namesIn } from './folder-listing';
import type { HostLimits } from './host-limits';
import { LiveTree } from './live-tree';

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

const neededForContent = 'to read its content';

/** What keeps a tree from being opened, in words. */
function whyNotOpened(error: unknown, user: string | null): Omit<ProbeFinding, 'level' | 'path'> {
  if (error instanceof EngineError)
    switch (error.code) {
      case 'ACCOUNT_UNKNOWN':
        return { message: `The mover's machine has no account named ${user}.`, neededFor: 'to read the source with its rights' };
      case 'LEADS_AWAY':
        return {
          message: 'The folder, or one above it, is a link that others could turn elsewhere. Name the folder it leads to.',
          neededFor: 'to read this folder and no other',
        };
      default:
        return { message: error.message, neededFor: neededForContent };
    }
  switch (systemCode(error)) {
    case 'ENOENT':
      return { message: 'There is no such folder on the mover.', neededFor: neededForContent };
    case 'ENOTDIR':
      return { message: 'This is not a folder.', neededFor: neededForContent };
    default:
      return { message: `The folder can not be reached (${systemCode(error) ?? String(error)}).`, neededFor: neededForContent };
  }
}

/** Tests a connection: can the root and what is below be read with this account, and what can not. Looks at a bounded number of entries. */
export function probe(root: string, user: string | null, limits: HostLimits): ProbeResult {
  const findings: ProbeFinding[] = [];
  const fault = (why: Omit<ProbeFinding, 'level' | 'path'>): ProbeResult => {
    findings.push({ level: 'fault', path: '', ...why });
    return { ok: false, findings, looked: 0, complete: true };
  };
  if (!root.startsWith('/'))
    return fault({ message: 'The folder must be given from the root, starting with /.', neededFor: 'to find it on the mover' });
  let tree: LiveTree;
  try {
    tree = LiveTree.open(root, user, limits);
  } catch (error) {
    return fault(whyNotOpened(error, user));
  }
  const waiting = [''];
  let looked = 0;
  while (waiting.length && looked < mostLooked && findings.length < mostFindings) {
    const folder = waiting.shift()!;
    const own = tree.ownNames(folder);
    try {
      tree.inFolder(folder, (fd) => {
        for (const name of namesIn(fd)) {
          if (own?.has(name)) continue;
          looked++;
          const path = joinPath(folder, name);
          const stat = factsIn(fd, name);
          if (stat?.isDirectory()) waiting.push(path);
          else if (stat?.isFile() && findings.length < mostFindings) tryOpen(fd, name, path, findings);
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
  tree.close();
  return { ok: true, findings, looked, complete: waiting.length === 0 };
}

const { O_RDONLY, O_NOFOLLOW, O_NONBLOCK } = fs.constants;

function tryOpen(folder: number, name: string, path: string, findings: ProbeFinding[]): void {
  try {
    closeFile(openIn(folder, name, O_RDONLY | O_NOFOLLOW | O_NONBLOCK));
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

/** Folders and files directly below a path beneath the root, folders first. Throws the system's error, LEADS_AWAY, OUT_OF_BOUNDS. */
export function discover(root: string, path: string, user: string | null, limits: HostLimits): DiscoveredFolder[] {
  const tree = LiveTree.open(root, user, limits);
  const own = tree.ownNames(path);
  try {
    return tree.inFolder(path, (fd) => {
      limits.checkBrowse(fd);
      return namesIn(fd)
        .filter((name) => !own?.has(name))
        .flatMap((name): DiscoveredFolder[] => {
          const entry = describeIn(fd, name);
          if (!entry) return [];
          const readable = entry.kind !== 'folder' || canList(fd, name);
          return [{ name, kind: entry.kind, size: entry.size, mtimeNs: entry.mtimeNs, readable }];
        })
        .sort((a, b) => Number(b.kind === 'folder') - Number(a.kind === 'folder'));
    });
  } finally {
    tree.close();
  }
}

function canList(folder: number, name: string): boolean {
  try {
    closeFile(openFolderBeneath(folder, name));
    return true;
  } catch {
    return false;
  }
}
