import fs from 'node:fs';
import { baseName, bytesOfText, isInside, parentPath } from '@lithodex/core';
import { EngineError } from '@lithodex/engine';
import { Hardware } from '../system/hardware';

/** What a mover may do on its host, as plain data for its threads. Absolute paths, byte strings. */
export interface HostBounds {
  /** Sources and what is looked at lie in one of these. */
  readonly read: readonly string[];
  /** Destinations lie in one of these. */
  readonly write: readonly string[];
  /** Where only what was taken there is brought back. The longest path that holds a place decides between these and `write`. */
  readonly backOnly: readonly string[];
  /** The mover's own: never read, never a destination. */
  readonly kept: readonly string[];
  /** What the hardware of servers says whose root is a folder here, by folder, as JSON. */
  readonly hardware?: Readonly<Record<string, string>>;
}

/** A file that only targets have. */
const storeMark = 'lithodex-store.json';

/** What holds on a host where nobody said otherwise: what the system runs from gets back only what was taken there. */
export const usualBackOnly = [
  '/bin',
  '/boot',
  '/dev',
  '/etc',
  '/lib',
  '/lib32',
  '/lib64',
  '/proc',
  '/root',
  '/run',
  '/sbin',
  '/sys',
  '/usr',
  '/var/spool',
];

const depthIn = (path: string, roots: readonly string[]) =>
  roots.reduce((deepest, root) => (isInside(path, root) ? Math.max(deepest, root.length) : deepest), 0);

/** Path of an open folder as the system knows it, without links. Byte string. */
export function pathOfOpen(folder: number): string {
  return fs.readlinkSync(`/proc/self/fd/${folder}`, 'latin1');
}

/** Holds what a mover does on its host within bounds that no server can widen. */
export class HostLimits {
  private readonly own = new Map<string, Set<string>>();

  constructor(private readonly bounds: HostBounds) {
    for (const path of bounds.kept) {
      const folder = parentPath(path) || '/';
      this.own.set(folder, (this.own.get(folder) ?? new Set()).add(baseName(path)));
    }
  }

  /** Without bounds: for a person at the command line of the host. */
  static readonly none = new HostLimits({ read: ['/'], write: ['/'], backOnly: [], kept: [] });

  /** What the hardware of the server says whose root is a folder of this host; undefined where it is none. */
  hardwareOf(folder: string): Hardware | undefined {
    const told = this.bounds.hardware?.[folder];
    return told === undefined ? undefined : Hardware.parse(JSON.parse(told));
  }

  /** Names in a folder that are the mover's own. */
  ownNames(folder: string): ReadonlySet<string> | undefined {
    return this.own.get(folder);
  }

  /** Refuses to read below an open folder that is out of bounds. Throws OUT_OF_BOUNDS. */
  checkRead(folder: number): void {
    const path = pathOfOpen(folder);
    this.checkOwn(path);
    if (!depthIn(path, this.bounds.read)) throw new EngineError('OUT_OF_BOUNDS', 'the settings of the mover do not name it for reading');
  }

  /** Refuses to show what is in an open folder where a target keeps its data. Throws OUT_OF_BOUNDS. */
  checkBrowse(folder: number): void {
    this.checkRead(folder);
    checkNoStore(pathOfOpen(folder));
  }

  /**
   * Refuses an open folder as a destination. Throws OUT_OF_BOUNDS.
   * @param cameFrom where the point was taken, as the point itself says; undefined where that is not known
   */
  checkWrite(folder: number, cameFrom: string | undefined): void {
    const path = pathOfOpen(folder);
    this.checkOwn(path);
    checkNoStore(path);
    const { write, backOnly } = this.bounds;
    const back = depthIn(path, backOnly);
    const free = depthIn(path, write);
    if (!free) throw new EngineError('OUT_OF_BOUNDS', 'the settings of the mover do not name it as a destination');
    if (back > free && !(cameFrom !== undefined && isInside(path, cameFrom)))
      throw new EngineError('OUT_OF_BOUNDS', 'only what was taken from a folder of the system is brought back there');
  }

  /** Refuses a folder as a target, which need not be there yet. Throws OUT_OF_BOUNDS. */
  checkTarget(folder: string): void {
    let there = folder;
    while (!fs.existsSync(Buffer.from(there, 'latin1'))) there = parentPath(there) || '/';
    this.checkOwn(fs.realpathSync(Buffer.from(there, 'latin1'), 'latin1') + folder.slice(there === '/' ? 0 : there.length));
  }

  /** Refuses what is the mover's own. Throws OUT_OF_BOUNDS. */
  checkOwn(path: string): void {
    if (this.bounds.kept.some((own) => isInside(path, own))) throw new EngineError('OUT_OF_BOUNDS', 'the mover keeps its own things there');
  }
}

function checkNoStore(path: string): void {
  for (let at = path; ; at = parentPath(at)) {
    if (fs.existsSync(Buffer.from(`${at}/${storeMark}`, 'latin1'))) throw new EngineError('OUT_OF_BOUNDS', 'a target keeps its data there');
    if (at === '' || at === '/') return;
  }
}

/** Bounds as they are usual, with what the mover keeps for itself. Texts. */
export function usualBounds(kept: readonly string[]): HostBounds {
  return { read: ['/'], write: ['/'], backOnly: usualBackOnly, kept: kept.map(bytesOfText) };
}
