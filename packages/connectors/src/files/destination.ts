import fs from 'node:fs';
import { closeFile, EngineError, inFolder, openFolderBeneath, openTop, systemCode, type TreeEntry } from '@lithodex/engine';
import { pathOfOpen, type HostLimits } from './host-limits';
import { applyMetadataOpen, propertiesOf } from './metadata';

export interface DestinationOptions {
  /** Absolute path of the destination, byte string; it is made when missing. */
  readonly base: string;
  readonly limits: HostLimits;
  /** Where the point was taken, as the point itself says; undefined where that is not known. */
  readonly cameFrom: string | undefined;
  /** Decide and report, write nothing. */
  readonly trial: boolean;
}

/** The folder that something is restored into: entered within the limits of the mover, never through a link. */
export class Destination {
  /** The open folder; -1 for one that is not there when a trial looks at it. */
  readonly base: number;

  /** Throws the system's error, LEADS_AWAY where a link is in the way, OUT_OF_BOUNDS. */
  constructor(private readonly options: DestinationOptions) {
    try {
      this.base = this.checked(openTop(options.base, options.trial ? undefined : (folder) => this.check(folder)));
    } catch (error) {
      if (!options.trial || systemCode(error) !== 'ENOENT') throw error;
      this.base = -1;
    }
  }

  private check(folder: number): void {
    this.options.limits.checkWrite(folder, this.options.cameFrom);
  }

  private checked(folder: number): number {
    try {
      this.check(folder);
      return folder;
    } catch (error) {
      closeFile(folder);
      throw error;
    }
  }

  /** Enters a folder of an open one that was there before. To be closed by `closeFile`. */
  enter(folder: number, name: string): number {
    this.checkName(folder, name);
    return this.checked(openFolderBeneath(folder, name));
  }

  /** Refuses a name in an open folder that is the mover's own. Throws OUT_OF_BOUNDS. */
  checkName(folder: number, name: string): void {
    if (this.options.limits.ownNames(pathOfOpen(folder))?.has(name))
      throw new EngineError('OUT_OF_BOUNDS', 'the mover keeps its own things there');
  }

  /**
   * Opens the folder that gets an item, making what is missing, with the properties of `like` (those of the point, outermost first) where they are known. -1 when a trial meets a
   * missing folder. To be closed by `closeFile`.
   */
  parent(parts: readonly string[], like: readonly TreeEntry[]): number {
    if (this.base < 0) return -1;
    let at = openFolderBeneath(this.base, '');
    for (const [i, part] of parts.entries()) {
      let next: number;
      let made = false;
      try {
        const path = inFolder(at, part);
        if (!fs.lstatSync(path, { throwIfNoEntry: false })) {
          if (this.options.trial) return -1;
          this.checkName(at, part);
          fs.mkdirSync(path, 0o755);
          made = true;
        }
        next = this.enter(at, part);
      } finally {
        closeFile(at);
      }
      at = next;
      const entry = made && like[i];
      if (entry) applyMetadataOpen(at, propertiesOf(entry));
    }
    return at;
  }

  close(): void {
    if (this.base >= 0) closeFile(this.base);
  }
}
