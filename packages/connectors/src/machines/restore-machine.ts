import { alignRanges, batchRanges, lengthOf, type DiskRange } from '@lithodex/core';
import { EngineError, keyedHash, type TreeEntry, type TreeReader } from '@lithodex/engine';
import { entryAt, type ChangeIds } from './capture-machine';
import { ImageMap, imageBlock, zeroBlock } from './image-map';
import type { StoredMachine } from './machine-item';
import type { PlatformClient } from './platform-client';
import type { MachineSettings, PlatformDisk, PlatformMachine } from './platform-types';
import { SlidingWork } from '../sliding-work';
import type { StraightDisk } from './straight-disk';
import { isSourceError, SourceError } from '../source-error';

/** Where a machine goes: back into the one it was, over another one, or beside what there is as a new one. */
export type MachineDestination =
  | { readonly to: 'over'; readonly machine: string; readonly start: boolean }
  | { readonly to: 'original'; readonly start: boolean; readonly now?: string | null; readonly removeFirst?: boolean }
  | {
      readonly to: 'new';
      readonly name: string;
      readonly host: string;
      readonly folder: string;
      /** Storage of each disk by its label; `storage` for the others. */
      readonly storages: Readonly<Record<string, string>>;
      readonly storage: string;
      readonly networks: readonly string[];
      readonly start: boolean;
      /** The machine that the time before has made makes way once this one is whole. */
      readonly round?: { readonly id: string; readonly before: string | null } | undefined;
    };

export interface RestoredDisk {
  /** Path of its item in the point. */
  readonly file: string;
  readonly action: 'write' | 'replace' | 'same';
  /** Bytes written on the platform. */
  readonly written: number;
}

export interface MachineRestoreOptions {
  readonly client: PlatformClient;
  /** Opens a disk where it lies on its storage; undefined where its data goes over the network. */
  readonly straight?: ((machineId: string, disk: PlatformDisk) => Promise<StraightDisk | undefined>) | undefined;
  readonly stored: StoredMachine;
  readonly top: TreeEntry;
  /** Of the point, for what was written on the platform since; of `base`, where that is given. */
  readonly changeIds: ChangeIds;
  /** Over another machine: the image of one of its disks, told by its label, as it was at the time of `changeIds`; undefined where no point of it is known. */
  readonly base?: ((label: string) => Promise<ImageMap | undefined>) | undefined;
  readonly trees: TreeReader;
  readonly readChunk: (name: Buffer) => Promise<Buffer>;
  readonly nameKey: Buffer;
  /** Which disks, by the paths of their items; undefined for all, and the settings. */
  readonly files: ReadonlySet<string> | undefined;
  readonly destination: MachineDestination;
  readonly taskId: string;
  readonly onDisk: (disk: RestoredDisk) => void;
  readonly onRemoved: (machine: PlatformMachine) => void;
  readonly onMachine: (machine: PlatformMachine, made: boolean) => void;
  /** Bytes compared or written. */
  readonly onBytes: (bytes: number) => void;
  readonly phase: (name: string) => void;
  readonly stopped: () => boolean;
}

const batchBytes = 4 << 20;
const atOnce = 3;

interface DiskWork {
  readonly disk: PlatformDisk;
  readonly file: string;
  readonly map: ImageMap;
  /** What was written, for reading it again. */
  readonly written: DiskRange[];
}

/** Brings a machine back; what was written is read again and compared. Throws SourceError. */
export class MachineRestore {
  constructor(private readonly options: MachineRestoreOptions) {}

  private get marker(): string {
    return `Being restored (task ${this.options.taskId}): incomplete, do not start`;
  }

  async run(): Promise<void> {
    const { destination, client, stored } = this.options;
    this.options.phase('preparing');
    const there = destination.to === 'new' ? undefined : await this.originalMachine();
    const removes = destination.to === 'original' && destination.removeFirst === true;
    if (there && removes) await this.remove(there);
    const existing = removes ? undefined : there;
    const machine = existing ?? (await this.make(this.settingsOfNew()));
    this.options.onMachine(machine, !existing);
    const start = destination.start && !stored.template;
    if (existing) await this.hold(existing);
    const disks = await this.disks(machine, existing !== undefined);
    this.options.phase('writing');
    for (const work of disks) await this.restoreDisk(machine.id, work, existing !== undefined);
    this.options.phase('checking');
    for (const work of disks) await this.check(machine.id, work);
    const whole = this.options.files === undefined;
    const { processors, memory, firmware, system } = stored;
    // over another machine only the disks are brought
    const settings = whole && destination.to !== 'over';
    await this.makeWay(machine);
    await client.change(machine.id, {
      ...(this.round && { name: this.round.name }),
      // an attempt that was killed has put its own in its place
      note: existing && !settings && existing.note !== this.marker ? existing.note : (this.round?.note ?? stored.note),
      ...(settings && { processors, memory, firmware, system }),
    });
    if (start) await client.change(machine.id, { running: true });
  }

  /** Of a restore that is repeated: the machine of the time before, and what the new one is called when that is gone. */
  private get round(): { readonly before: string | null; readonly name: string; readonly note: string } | undefined {
    const { destination } = this.options;
    if (destination.to !== 'new' || !destination.round) return undefined;
    const { before, id } = destination.round;
    return { before, name: destination.name, note: `Made by a restore that is repeated (${id}): the next one replaces it` };
  }

  /** Takes away what the time before has made. */
  private async makeWay(machine: PlatformMachine): Promise<void> {
    const { round } = this;
    if (!round) return;
    const { client } = this.options;
    const { machines } = await client.inventory();
    const old = machines.filter((m) => m.id !== machine.id && (m.id === round.before || (m.name === round.name && m.note === round.note)));
    for (const { id, running, ...rest } of old) {
      if (running) await client.change(id, { running: false });
      await client.remove(id);
      this.options.onRemoved({ ...rest, id, running });
    }
  }

  /** The machine the point was taken of, undefined when it is gone; or the other one that it goes over. */
  private async originalMachine(): Promise<PlatformMachine | undefined> {
    const { client, stored, destination } = this.options;
    if (destination.to === 'over') return client.machine(destination.machine);
    try {
      return await client.machine((destination.to === 'original' ? destination.now : undefined) ?? stored.id);
    } catch (error) {
      if (isSourceError(error, 'MACHINE_GONE')) return undefined;
      throw error;
    }
  }

  /** Takes away what has the place of the machine, if it may be made anew then. Throws MACHINE_RUNNING, RIGHT_MISSING. */
  private async remove(machine: PlatformMachine): Promise<void> {
    const { client } = this.options;
    if (machine.running) throw new SourceError('MACHINE_RUNNING', machine.name);
    const { rights } = await client.session();
    const missing = ['machine.create', 'machine.remove', 'disk.write'].find((right) => !rights.includes(right));
    if (missing) throw new SourceError('RIGHT_MISSING', missing);
    await client.remove(machine.id);
    this.options.onRemoved(machine);
  }

  /** A machine that is gone comes back where it was. */
  private settingsOfNew(): { settings: MachineSettings; storageOf: (disk: PlatformDisk) => string } {
    const { stored, destination } = this.options;
    const { name, host, folder, networks } = destination.to === 'new' ? destination : stored;
    const { id, format, cluster, location, level, disks, ...settings } = stored;
    const storageOf = (disk: PlatformDisk) =>
      destination.to === 'new' ? (destination.storages[disk.label] ?? destination.storage) : disk.storage;
    const own = this.round ? { name: `${name} (coming)`, tags: [] } : { name };
    return { settings: { ...settings, ...own, host, folder, networks: [...networks], running: false, note: this.marker }, storageOf };
  }

  /** Makes the machine; what an earlier attempt of this task has left of it is removed. */
  private async make({ settings, storageOf }: ReturnType<MachineRestore['settingsOfNew']>): Promise<PlatformMachine> {
    const { client, stored } = this.options;
    const disks = stored.disks.map((d) => ({ label: d.label, size: d.size, storage: storageOf(d) }));
    try {
      return await client.create(settings, disks);
    } catch (error) {
      if (!isSourceError(error, 'NAME_TAKEN_THERE')) throw error;
      const { machines } = await client.inventory();
      const mine = machines.find((m) => m.name === settings.name && m.note === this.marker);
      if (!mine) throw error;
      await client.remove(mine.id);
      return client.create(settings, disks);
    }
  }

  /** Stops a machine that is to be written over, and marks it. */
  private async hold(machine: PlatformMachine): Promise<void> {
    if (machine.running) await this.options.client.change(machine.id, { running: false });
    await this.options.client.change(machine.id, { note: this.marker });
  }

  private async disks(machine: PlatformMachine, original: boolean): Promise<DiskWork[]> {
    const { stored, files, trees, top, nameKey } = this.options;
    const zeros = keyedHash(nameKey, zeroBlock);
    const work: DiskWork[] = [];
    for (const [i, kept] of stored.disks.entries()) {
      const wanted = kept.file !== '' && (files === undefined || files.has(kept.file));
      if (!wanted) continue;
      // one that was made anew since has disks of other names
      const disk = original
        ? (machine.disks.find((d) => d.id === kept.id) ?? machine.disks.find((d) => d.label === kept.label))
        : machine.disks[i];
      const entry = await entryAt(trees, top, kept.file);
      const map = entry && (await ImageMap.of(entry, trees, zeros));
      if (!map) throw new EngineError('PATH_MISSING', kept.file);
      if (disk?.size !== map.size) throw new SourceError('DISK_DIFFERS', kept.label);
      work.push({ disk, file: kept.file, map, written: [] });
    }
    return work;
  }

  private async restoreDisk(machineId: string, work: DiskWork, original: boolean): Promise<void> {
    const ranges = original ? await this.mayDiffer(machineId, work) : work.map.dataRanges();
    const straight = await this.options.straight?.(machineId, work.disk);
    try {
      const sliding = new SlidingWork(atOnce);
      for (const batch of batchRanges(ranges, batchBytes)) {
        if (this.options.stopped()) throw new EngineError('STOPPED');
        await sliding.add(async () => {
          const read = () => (straight ? straight.read(batch) : this.options.client.read(machineId, work.disk.id, batch));
          await this.write(machineId, work, batch, original ? await read() : undefined, straight);
          this.options.onBytes(lengthOf(batch));
        });
      }
      await sliding.idle();
    } finally {
      straight?.close();
    }
    const written = lengthOf(work.written);
    this.options.onDisk({ file: work.file, action: !original ? 'write' : written ? 'replace' : 'same', written });
  }

  /** Where a disk may differ from the point: what was written since, or anything that one of the two holds when that is not known. */
  private async mayDiffer(machineId: string, { disk, map }: DiskWork): Promise<DiskRange[]> {
    const { client, changeIds, destination, base } = this.options;
    const since = changeIds[disk.id];
    const before = await base?.(disk.label);
    // of another machine, what was written since is not enough: what was different then is too
    if (since !== undefined && (destination.to !== 'over' || before))
      try {
        const then = before ? rangesOf(map.blocksUnlike(before), map) : [];
        return alignRanges([...(await client.ranges(machineId, disk.id, { since })), ...then], imageBlock, map.size);
      } catch (error) {
        if (!isSourceError(error, 'CHANGES_UNKNOWN')) throw error;
      }
    return alignRanges([...(await client.ranges(machineId, disk.id, {})), ...map.dataRanges()], imageBlock, map.size);
  }

  /** Writes the blocks of a batch; only those that differ from what is there, where that is given. */
  private async write(
    machineId: string,
    work: DiskWork,
    batch: readonly DiskRange[],
    there: Buffer | undefined,
    straight: StraightDisk | undefined,
  ): Promise<void> {
    const { nameKey, readChunk } = this.options;
    const ranges: [number, number][] = [];
    const data: Buffer[] = [];
    let at = 0;
    for (const [offset, length] of batch)
      for (let from = offset; from < offset + length; from += imageBlock) {
        const bytes = Math.min(imageBlock, offset + length - from);
        const name = work.map.name(from / imageBlock);
        const now = there?.subarray(at, at + bytes);
        at += bytes;
        if (now && (name ? keyedHash(nameKey, now).equals(name) : now.equals(zeroBlock.subarray(0, bytes)))) continue;
        data.push(name ? await readChunk(name) : zeroBlock.subarray(0, bytes));
        const last = ranges.at(-1);
        if (last && last[0] + last[1] === from) last[1] += bytes;
        else ranges.push([from, bytes]);
      }
    if (!ranges.length) return;
    const { client } = this.options;
    if (straight) {
      // told before: what a kill leaves half written is known as changed
      await client.announce(machineId, work.disk.id, ranges);
      straight.write(ranges, data);
    } else await client.write(machineId, work.disk.id, ranges, data);
    work.written.push(...ranges);
  }

  /** Reads what was written again. Throws NOT_AS_STORED. */
  private async check(machineId: string, { disk, file, map, written }: DiskWork): Promise<void> {
    const { client, nameKey, stopped, onBytes } = this.options;
    const sliding = new SlidingWork(atOnce);
    for (const batch of batchRanges(alignRanges(written, imageBlock, map.size), batchBytes)) {
      if (stopped()) throw new EngineError('STOPPED');
      await sliding.add(async () => {
        const data = await client.read(machineId, disk.id, batch);
        onBytes(0);
        let at = 0;
        for (const [offset, length] of batch)
          for (let from = offset; from < offset + length; from += imageBlock) {
            const block = data.subarray(at, at + Math.min(imageBlock, offset + length - from));
            at += block.length;
            const name = map.name(from / imageBlock);
            const right = name ? keyedHash(nameKey, block).equals(name) : block.equals(zeroBlock.subarray(0, block.length));
            if (!right) throw new SourceError('NOT_AS_STORED', `${file} at ${from}`);
          }
      });
    }
    await sliding.idle();
  }
}

/** Blocks as ranges of bytes. */
function rangesOf(blocks: readonly number[], map: ImageMap): DiskRange[] {
  return blocks.map((block) => [block * imageBlock, map.lengthOf(block)]);
}
