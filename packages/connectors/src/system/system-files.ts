import fs from 'node:fs';
import { closeFile } from '@lithodex/engine';
import type { LiveTree } from '../files/live-tree';

/** Reads small files of a system beneath its root, never through a link; what can't be read is as if it were not there. */
export class SystemFiles {
  constructor(private readonly tree: LiveTree) {}

  /** The beginning of a file, as bytes in a text; undefined where there is none. Paths are below the root, without a slash before. */
  text(path: string, most = 1 << 20): string | undefined {
    try {
      const fd = this.tree.openFile(path, fs.constants.O_RDONLY | fs.constants.O_NONBLOCK);
      try {
        const facts = fs.fstatSync(fd);
        if (!facts.isFile()) return undefined;
        const room = Buffer.alloc(Math.min(most, facts.size));
        let length = 0;
        for (let read = 1; read > 0 && length < room.length; length += read)
          read = fs.readSync(fd, room, length, room.length - length, length);
        return room.toString('latin1', 0, length);
      } finally {
        closeFile(fd);
      }
    } catch {
      return undefined;
    }
  }

  /** Names in a folder; none where there is no such folder. */
  names(path: string): readonly string[] {
    try {
      const { fd, names } = this.tree.list(path);
      closeFile(fd);
      return names;
    } catch {
      return [];
    }
  }
}
