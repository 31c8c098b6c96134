import fs from 'node:fs';

const { O_RDONLY, O_DIRECTORY, O_NOFOLLOW } = fs.constants;
const longestPath = 3800;

/**
 * Opens the folder at a path of byte strings below `base` without following any link on the way, one level at a time, which also passes the system's limit on the
 * length of a path. The caller closes the descriptor.
 */
export function openFolderBelow(base: number, parts: readonly string[]): number {
  let at = base;
  for (const part of parts) {
    let next: number;
    try {
      next = fs.openSync(inFolder(at, part), O_RDONLY | O_DIRECTORY | O_NOFOLLOW);
    } finally {
      if (at !== base) fs.closeSync(at);
    }
    at = next;
  }
  return at === base ? fs.openSync(`/proc/self/fd/${base}/.`, O_RDONLY | O_DIRECTORY) : at;
}

/** Path of an entry of an open folder: names in it can not lead elsewhere, whatever happens to the folders above. */
export function inFolder(folder: number, name: string): Buffer {
  return Buffer.from(`/proc/self/fd/${folder}/${name}`, 'latin1');
}

/** Runs `use` with a path that names the same entry as `path` (absolute, byte string) but is short enough for the system. */
export function withShortPath<T>(path: string, use: (path: Buffer) => T): T {
  if (path.length < longestPath) return use(Buffer.from(path, 'latin1'));
  const parts = path.split('/').filter(Boolean);
  const name = parts.pop()!;
  const rootFd = fs.openSync('/', O_RDONLY | O_DIRECTORY);
  try {
    const folder = openFolderBelow(rootFd, parts);
    try {
      return use(inFolder(folder, name));
    } finally {
      fs.closeSync(folder);
    }
  } finally {
    fs.closeSync(rootFd);
  }
}
