import { isInside, judgeParts, obstacles, pathBelow, type PathFilter } from '@lithodex/core';
import type { FilesFrom, ServerPoint } from '@lithodex/kinds';
import { LiveTree } from '../files/live-tree';
import type { HostLimits } from '../files/host-limits';
import { SourceError } from '../source-error';
import { hardwareOfHost, type Hardware } from './hardware';
import { readMounts } from './read-disks';
import { readSystem } from './read-system';
import { SystemFiles } from './system-files';

/** A server that is read whole, and what its hardware says. */
export interface WholeServer {
  readonly hardware: Hardware;
  /** Absolute byte strings: what the kernel makes up, and what comes over a network, is no part of it. */
  readonly noPart: readonly string[];
}

/** How the kernel calls what a disk of the machine holds; all else it makes up itself, or other hosts serve it. */
const ofDisks = '/dev/';

/** What the hardware of a server says that is read whole. Throws NO_SERVER where the folder is no server's. */
export async function wholeServer(folder: string, limits: HostLimits): Promise<WholeServer> {
  const hardware = folder === '/' ? await hardwareOfHost() : limits.hardwareOf(folder);
  if (!hardware) throw new SourceError('NO_SERVER', 'a server is read whole from its folder /, by a mover that runs on it');
  const at = folder === '/' ? '' : folder;
  const noPart = readMounts(hardware.mounts).flatMap((m) => (m.device.startsWith(ofDisks) || m.mount === '/' ? [] : [`${at}${m.mount}`]));
  return { hardware, noPart };
}

/** What a point of a server says of it, when its files have been read; `missing`: byte strings below the root that could not be. */
export function systemOf(
  { folder, readAs, targetFolders }: FilesFrom,
  { hardware, noPart }: WholeServer,
  filter: PathFilter,
  missing: readonly string[],
  limits: HostLimits,
): ServerPoint {
  const out = [...noPart, ...targetFolders];
  const held = (path: string, isFolder: boolean) => {
    const whole = pathBelow(folder, path.slice(1));
    if (out.some((o) => isInside(whole, o)) || missing.some((m) => isInside(path, `/${m}`) || m === '')) return false;
    const parts = path.split('/').filter(Boolean);
    return parts.every((_, i) => !filter.leftOut(parts.slice(0, i + 1).join('/'), isFolder || i < parts.length - 1));
  };
  const tree = LiveTree.open(folder, readAs, limits);
  try {
    const system = readSystem(hardware, new SystemFiles(tree), held);
    return { kind: 'server', system, parts: judgeParts(system) };
  } finally {
    tree.close();
  }
}

/** Why a server could not be rebuilt from a point, a sentence; '' where it could. */
export function notReadyWords({ parts }: ServerPoint): string {
  const lacks = obstacles(parts);
  return lacks.length ? `it could not be rebuilt from this point: ${lacks.map((p) => p.missing).join('; ')}` : '';
}
