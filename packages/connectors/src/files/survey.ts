import { isInside, joinPath, type PathFilter } from '@lithodex/core';
import { systemCode } from '@lithodex/engine';
import { factsIn, namesIn } from './folder-listing';
import type { HostLimits } from './host-limits';
import { LiveTree } from './live-tree';

export interface Survey {
  items: number;
  files: number;
  bytes: number;
}

/** Walks a tree as a backup would, counts, reads no content and writes nothing; what can't be read is told. Throws what the top folder can't be opened for. */
export function surveyTree(
  root: string,
  filter: PathFilter,
  leftOutByItself: readonly string[],
  readAs: string | null,
  limits: HostLimits,
  onUnreadable: (path: string, cause: string) => void,
  stopped: () => boolean,
): Survey {
  const survey: Survey = { items: 0, files: 0, bytes: 0 };
  const tree = LiveTree.open(root, readAs, limits);
  const waiting = [''];
  const look = (folder: string) => {
    const own = tree.ownNames(folder);
    tree.inFolder(folder, (fd) => {
      for (const name of namesIn(fd)) {
        const path = joinPath(folder, name);
        const stat = factsIn(fd, name);
        if (!stat || own?.has(name)) continue;
        const leftOut =
          filter.leftOut(path, stat.isDirectory()) || (stat.isDirectory() && leftOutByItself.some((t) => isInside(tree.at(path), t)));
        if (leftOut) continue;
        survey.items++;
        if (stat.isDirectory()) waiting.push(path);
        else if (stat.isFile()) {
          survey.files++;
          survey.bytes += Number(stat.size);
        }
      }
    });
  };
  try {
    while (waiting.length && !stopped()) {
      const folder = waiting.pop()!;
      try {
        look(folder);
      } catch (error) {
        onUnreadable(folder, systemCode(error) ?? String(error));
      }
    }
    return survey;
  } finally {
    tree.close();
  }
}
