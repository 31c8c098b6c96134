import { createHash, randomUUID } from 'node:crypto';
import fs from 'node:fs';
import path from 'node:path';
import { BlockDisk, type Range } from '../platform/block-disk';
import { CloudError } from './cloud-error';
import type { Volume } from './description';

/** The volumes of a cloud with what they hold, each a file. */
export class Volumes {
  private readonly known = new Map<string, Volume>();
  private readonly disks = new Map<string, BlockDisk>();

  constructor(
    private readonly folder: string,
    kept: readonly Volume[],
    private readonly onChange: () => void,
  ) {
    fs.mkdirSync(folder, { recursive: true });
    for (const volume of kept) {
      this.known.set(volume.id, volume);
      this.disks.set(volume.id, BlockDisk.open(this.fileOf(volume.id)));
    }
  }

  /** Path of the file of a volume, for who looks at it from outside. */
  fileOf(id: string): string {
    return path.join(this.folder, `${id}.raw`);
  }

  all(): Volume[] {
    return [...this.known.values()];
  }

  one(id: string): Volume {
    const found = this.known.get(id);
    if (!found) throw new CloudError('NOT_FOUND', 'there is no such volume');
    return found;
  }

  disk(id: string): BlockDisk {
    this.one(id);
    return this.disks.get(id)!;
  }

  make(volume: Omit<Volume, 'id' | 'instance'>): Volume {
    if (!Number.isSafeInteger(volume.size) || volume.size <= 0) throw new CloudError('INVALID', 'a volume needs a size');
    const made = { ...volume, id: `v-${randomUUID().slice(0, 8)}`, instance: null };
    this.disks.set(made.id, BlockDisk.create(this.fileOf(made.id), made.size));
    this.known.set(made.id, made);
    this.onChange();
    return made;
  }

  change(id: string, changes: Partial<Pick<Volume, 'tags' | 'instance' | 'label'>>): Volume {
    const volume = { ...this.one(id), ...changes };
    this.known.set(id, volume);
    this.onChange();
    return volume;
  }

  /** Throws IN_USE for one that an instance has. */
  remove(id: string): void {
    if (this.one(id).instance !== null) throw new CloudError('IN_USE', 'an instance has the volume');
    this.disk(id).remove();
    this.disks.delete(id);
    this.known.delete(id);
    this.onChange();
  }

  /** SHA-256 of stretches of a volume, hexadecimal. */
  sums(id: string, ranges: readonly Range[]): string[] {
    const disk = this.disk(id);
    return ranges.map(([offset, length]) => createHash('sha256').update(disk.bytes(offset, length)).digest('hex'));
  }

  close(): void {
    for (const disk of this.disks.values()) disk.close();
  }
}
