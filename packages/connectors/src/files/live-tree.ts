import { pathBelow } from '@lithodex/core';
import { closeFile, openBeneath, openFolderBeneath, openTop, posix } from '@lithodex/engine';
import { accountOf } from './accounts';
import { namesIn } from './folder-listing';
import { pathOfOpen, type HostLimits } from './host-limits';

/** An open folder with the names in it as byte strings, sorted by bytes. */
export interface Listing {
  /** To be closed by `closeFile`. */
  readonly fd: number;
  readonly names: readonly string[];
}

/**
 * A folder tree as it is now. Everything below its top is opened beneath it, never through a link, with the rights of the account it is read with: whoever owns the tree can not
 * lead out of it.
 */
export class LiveTree {
  /** The open top folder. */
  readonly top: number;
  /** Its path as the system knows it, without links. */
  readonly path: string;

  private constructor(
    path: string,
    readonly account: posix.Account | undefined,
    private readonly limits: HostLimits,
  ) {
    this.top = posix.asAccount(account, () => openTop(path));
    try {
      limits.checkRead(this.top);
    } catch (error) {
      this.close();
      throw error;
    }
    this.path = pathOfOpen(this.top);
  }

  /**
   * Opens a tree, which the caller closes.
   * @param path absolute byte string
   * @param user whose rights are used; null for those of the process
   * Throws the system's error, LEADS_AWAY, ACCOUNT_UNKNOWN, OUT_OF_BOUNDS.
   */
  static open(path: string, user: string | null, limits: HostLimits): LiveTree {
    return new LiveTree(path, accountOf(user), limits);
  }

  /** Absolute path of what lies below; '' is the top, which may be that of the host. */
  at(path: string): string {
    return pathBelow(this.path, path);
  }

  /** Runs synchronous file calls with the rights of the account. */
  run<T>(calls: () => T): T {
    return posix.asAccount(this.account, calls);
  }

  /** Opens and lists a folder ('' is the top). Throws the system's error, and LEADS_AWAY. */
  list(path: string): Listing {
    return this.run(() => {
      const fd = this.openFolder(path);
      try {
        return { fd, names: namesIn(fd) };
      } catch (error) {
        closeFile(fd);
        throw error;
      }
    });
  }

  /** Runs `use` with a folder open, with the rights of the account. Throws as {@link list}. */
  inFolder<T>(path: string, use: (folder: number) => T): T {
    return this.run(() => {
      const fd = this.openFolder(path);
      try {
        return use(fd);
      } finally {
        closeFile(fd);
      }
    });
  }

  /** Opens a file for reading, which the caller closes by `closeFile`. Throws as {@link list}. */
  openFile(path: string, flags: number): number {
    this.checkOwn(path);
    return this.run(() => openBeneath(this.top, path, flags));
  }

  /** Refuses what is the mover's own. Throws OUT_OF_BOUNDS. */
  checkOwn(path: string): void {
    this.limits.checkOwn(this.at(path));
  }

  private openFolder(path: string): number {
    if (path) this.checkOwn(path);
    return openFolderBeneath(this.top, path);
  }

  /** Names in a folder that are the mover's own, which nobody is shown. */
  ownNames(path: string): ReadonlySet<string> | undefined {
    return this.limits.ownNames(this.at(path));
  }

  close(): void {
    closeFile(this.top);
  }
}
