import { execFileSync } from 'node:child_process';
import { randomUUID } from 'node:crypto';
import fs from 'node:fs';
import path from 'node:path';
import { blockBytes, type Range } from './block-disk';
import type { Machine, Platform } from './platform';
import { PlatformError } from './platform-error';
import { visitData } from './sparse-file';

/** All disks on one storage at one instant, with what was said of their machines then. */
export interface VolumeSnapshot {
  readonly id: string;
  readonly storage: string;
  readonly name: string;
  readonly takenAt: number;
  /** With all their disks; those on other storages are not in the snapshot. */
  readonly machines: readonly Omit<Machine, 'snapshots' | 'createdAt'>[];
}

/** Snapshots that storages take of themselves: they know nothing of what runs inside, outlive the machines, and are lost with their storage. */
export class VolumeSnapshots {
  private readonly kept = new Map<string, VolumeSnapshot>();

  constructor(
    private readonly folder: string,
    private readonly platform: Platform,
  ) {
    fs.mkdirSync(folder, { recursive: true });
    for (const id of fs.readdirSync(folder)) {
      const file = path.join(folder, id, 'snapshot.json');
      // what was begun and has no description is no snapshot
      if (fs.existsSync(file)) this.kept.set(id, JSON.parse(fs.readFileSync(file, 'utf8')) as VolumeSnapshot);
      else fs.rmSync(path.join(folder, id), { recursive: true });
    }
  }

  all(): VolumeSnapshot[] {
    return [...this.kept.values()].sort((a, b) => a.takenAt - b.takenAt);
  }

  private fileOf(id: string, disk: string): string {
    return path.join(this.folder, id, `${disk}.raw`);
  }

  take(storage: string, name: string): VolumeSnapshot {
    const { description, switches } = this.platform;
    if (!description.storages.some((s) => s.name === storage)) throw new PlatformError('NOT_FOUND', `there is no storage ${storage}`);
    if (switches.full.includes(storage)) throw new PlatformError('NO_ROOM', `${storage} has no room`);
    const id = `v-${randomUUID().slice(0, 8)}`;
    const machines = this.platform.inventory().machines.filter((m) => m.disks.some((d) => d.storage === storage));
    const taken: VolumeSnapshot = {
      id,
      storage,
      name,
      takenAt: Date.now(),
      machines: machines.map(({ snapshots: _, createdAt: __, ...machine }) => machine),
    };
    fs.mkdirSync(path.join(this.folder, id));
    for (const machine of machines)
      for (const disk of machine.disks)
        if (disk.storage === storage)
          execFileSync('cp', ['--reflink=auto', '--sparse=always', this.platform.fileOf(machine.id, disk.id), this.fileOf(id, disk.id)]);
    fs.writeFileSync(path.join(this.folder, id, 'snapshot.json'), JSON.stringify(taken));
    this.kept.set(id, taken);
    return taken;
  }

  private snapshot(storage: string, id: string): VolumeSnapshot {
    const found = this.kept.get(id);
    if (found?.storage !== storage) throw new PlatformError('NOT_FOUND', `${storage} has no such snapshot`);
    return found;
  }

  remove(storage: string, id: string): void {
    this.snapshot(storage, id);
    this.kept.delete(id);
    fs.rmSync(path.join(this.folder, id), { recursive: true });
  }

  /** Opens the file of a disk for as long as `use` takes. */
  private withDisk<T>(storage: string, id: string, disk: string, use: (fd: number, size: number) => T): T {
    const known = this.snapshot(storage, id).machines.some((m) => m.disks.some((d) => d.id === disk && d.storage === storage));
    if (!known) throw new PlatformError('NOT_FOUND', 'the snapshot holds no such disk');
    const fd = fs.openSync(this.fileOf(id, disk), 'r');
    try {
      return use(fd, fs.fstatSync(fd).size);
    } finally {
      fs.closeSync(fd);
    }
  }

  /** Stretches of a disk that hold data, in whole blocks. */
  ranges(storage: string, id: string, disk: string): Range[] {
    return this.withDisk(storage, id, disk, (fd, size) => {
      const ranges: [number, number][] = [];
      visitData(fd, (from, to) => {
        const start = Math.floor(from / blockBytes) * blockBytes;
        const end = Math.min(size, Math.ceil(to / blockBytes) * blockBytes);
        const last = ranges.at(-1);
        if (last && last[0] + last[1] >= start) last[1] = end - last[0];
        else ranges.push([start, end - start]);
      });
      return ranges;
    });
  }

  /** The bytes of ranges, one behind the other. */
  read(storage: string, id: string, disk: string, ranges: readonly Range[]): Buffer {
    return this.withDisk(storage, id, disk, (fd, size) =>
      Buffer.concat(
        ranges.map(([offset, length]) => {
          if (!Number.isSafeInteger(offset) || !Number.isSafeInteger(length) || offset < 0 || length < 0 || offset + length > size)
            throw new PlatformError('INVALID', 'a range lies outside the disk');
          const data = Buffer.alloc(length);
          fs.readSync(fd, data, 0, length, offset);
          return data;
        }),
      ),
    );
  }
}
