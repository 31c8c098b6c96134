import { isInside, joinPath, type PathFilter } from '@lithodex/core';
import { posix, systemCode } from '@lithodex/engine';
import { listNames, statEntry } from './folder-listing';

export interface Survey {
  items: number;
  files: number;
  bytes: number;
}

/** Walks a tree as a backup would, counts, reads no content and writes nothing; what can't be read is told. */
export function surveyTree(
  root: string,
  filter: PathFilter,
  leftOutByItself: readonly string[],
  account: posix.Account | undefined,
  onUnreadable: (path: string, cause: string) => void,
  stopped: () => boolean,
): Survey {
  const survey: Survey = { items: 0, files: 0, bytes: 0 };
  const waiting = [''];
  while (waiting.length && !stopped()) {
    const folder = waiting.pop()!;
    posix.asAccount(account, () => {
      try {
        for (const name of listNames(folder === '' ? root : `${root}/${folder}`)) {
          const path = joinPath(folder, name);
          const stat = statEntry(`${root}/${path}`);
          const leftOut =
            filter.leftOut(path, stat.isDirectory()) || (stat.isDirectory() && leftOutByItself.some((t) => isInside(`${root}/${path}`, t)));
          if (leftOut) continue;
          survey.items++;
          if (stat.isDirectory()) waiting.push(path);
          else if (stat.isFile()) {
            survey.files++;
            survey.bytes += Number(stat.size);
          }
        }
      } catch (error) {
        onUnreadable(folder, systemCode(error) ?? String(error));
      }
    });
  }
  return survey;
}
