import { createHash } from 'node:crypto';
import { EngineError, keyedHash, topEntry, type Root, type TreeEntry, type TreeReader } from '@lithodex/engine';
import type { CloudDestination } from '@lithodex/kinds';
import { isSourceError, SourceError } from '../../source-error';
import { entryAt } from '../capture-machine';
import { ImageMap, zeroBlock } from '../image-map';
import type { StoredMachine } from '../machine-item';
import type { Range } from '../platform-types';
import type { CloudInstance, CloudVolume } from './cloud-answers';
import type { CloudClient } from './cloud-client';
import { sendImage } from './send-image';

/** What a volume that waits for its instance is marked with. */
const marks = {
  machine: 'lithodex-machine=',
  disk: 'lithodex-disk=',
  point: 'lithodex-point=',
  sum: 'lithodex-sum=',
  madeBy: 'lithodex-made-by=',
} as const;
/** The sum of a volume is made of the sums of stretches of this many bytes. */
const stretchBytes = 64 << 20;
const markOf = ({ tags }: Pick<CloudVolume, 'tags'>, mark: string) => tags.find((t) => t.startsWith(mark))?.slice(mark.length);

export interface SentDisk {
  /** Path of its item in the point. */
  readonly file: string;
  readonly label: string;
  /** Bytes that were sent. */
  readonly sent: number;
  /** Whether it lay there already, as of an earlier point or of this one. */
  readonly before: 'nothing' | 'earlier' | 'same';
}

export interface CloudRestoreOptions {
  readonly client: CloudClient;
  readonly root: Root;
  readonly top: TreeEntry;
  readonly stored: StoredMachine;
  readonly trees: TreeReader;
  readonly nameKey: Buffer;
  readonly readChunk: (name: Buffer) => Promise<Buffer>;
  /** Another point of the same store; undefined where it is not there any more. */
  readonly rootOf: (seriesId: string, taskId: string) => Promise<Root | undefined>;
  readonly destination: CloudDestination;
  readonly taskId: string;
  readonly onDisk: (disk: SentDisk) => void;
  readonly onInstance: (instance: CloudInstance) => void;
  readonly onRemoved: (instance: CloudInstance) => void;
  readonly onBytes: (bytes: number) => void;
  readonly phase: (name: string) => void;
  readonly stopped: () => boolean;
}

/**
 * Brings a machine into a cloud: a volume for each disk, then the instance of them. A volume is marked with the point it holds only once it was compared; what was sent ahead, or
 * by an attempt that was killed, is not sent again. Throws SourceError.
 */
export class CloudRestore {
  private readonly zeros: Buffer;

  constructor(private readonly options: CloudRestoreOptions) {
    this.zeros = keyedHash(options.nameKey, zeroBlock);
  }

  async run(): Promise<void> {
    const { client, destination, phase } = this.options;
    phase('preparing');
    const made = await this.madeBefore();
    if (made) {
      await this.finish(made);
      return;
    }
    // what an attempt that was killed has staged
    for (const name of await client.staged()) if (name.startsWith(this.stagedPrefix)) await client.dropStaged(name);
    phase('sending');
    const free = await client.freeVolumes(destination.region);
    const volumes: string[] = [];
    for (const disk of this.wanted()) volumes.push(await this.volume(disk, free));
    if (destination.ahead) return;
    phase('making');
    await this.finish(await this.make(volumes));
  }

  /** What stands with an instance until it is finished: an attempt that goes on finds it by that. */
  private get marker(): string {
    return `Being brought here (task ${this.options.taskId})`;
  }

  private get stagedPrefix(): string {
    return `lithodex-${this.options.taskId}-`;
  }

  /** What stands with an instance that is whole. */
  private get note(): string {
    const { destination, stored } = this.options;
    if (this.round) return this.round.note;
    return destination.hours === null ? stored.note : 'Made for a trial: it is removed by itself, with its disks';
  }

  private get round(): { readonly before: string | null; readonly note: string } | undefined {
    const { round } = this.options.destination;
    return round && { before: round.before, note: `Made by a restore that is repeated (${round.id}): the next one replaces it` };
  }

  private wanted(): StoredMachine['disks'] {
    const { stored, destination } = this.options;
    return stored.disks.filter((d) => d.file !== '' && !destination.leaveOut.includes(d.label));
  }

  /** What an attempt that was killed has made, to whichever step it came. */
  private async madeBefore(): Promise<CloudInstance | undefined> {
    const { client, destination, taskId } = this.options;
    if (destination.ahead) return undefined;
    const isMine = (i: CloudInstance) => i.note === this.marker || i.volumes.some((v) => markOf(v, marks.madeBy) === taskId);
    return (await client.instances()).find(isMine);
  }

  /** The marks of the volume of a disk, with the point it holds ('' while that is not sure). */
  private tags(label: string, point: string): string[] {
    return [`${marks.machine}${this.machineKey}`, `${marks.disk}${label}`, `${marks.point}${point}`];
  }

  /** What stands for the machine: other installations may use the same cloud, and number their workloads alike. */
  private get machineKey(): string {
    const { root, stored } = this.options;
    return `${root.workload.id}/${stored.id}`;
  }

  /** A volume that holds a disk as the point has it. */
  private async volume(disk: StoredMachine['disks'][number], free: readonly CloudVolume[]): Promise<string> {
    const { client, destination, trees, top, root, readChunk, onBytes, onDisk, stopped } = this.options;
    const { label, file } = disk;
    const entry = await entryAt(trees, top, file);
    const map = entry && (await ImageMap.of(entry, trees, this.zeros));
    if (!map) throw new EngineError('PATH_MISSING', file);
    const kind = destination.classes[label] ?? destination.class;
    const mine = free.filter((v) => markOf(v, marks.machine) === this.machineKey && markOf(v, marks.disk) === label);
    let base: ImageMap | undefined;
    let kept: CloudVolume | undefined;
    for (const volume of mine) {
      const held = volume.class === kind && volume.size === map.size && !kept ? await this.heldBy(volume, label) : undefined;
      if (held) [kept, base] = [volume, held];
      // half of something, or of another kind: nobody needs it
      else await client.removeVolume(volume.id);
    }
    const blocks = map.blocksUnlike(base);
    const { region } = destination;
    const { id } = kept ?? (await client.makeVolume({ region, class: kind, label, size: map.size, tags: this.tags(label, '') }));
    const name = `${this.stagedPrefix}${id}.qcow2`;
    let sent: number;
    try {
      if (blocks.length) await client.tagVolume(id, this.tags(label, ''));
      sent = await sendImage({ client, volume: id, name, map, blocks, readChunk, onBytes, stopped });
      const sum = await this.wholeSum(id, map.size);
      await client.tagVolume(id, [...this.tags(label, `${root.seriesId}/${root.taskId}`), `${marks.sum}${sum}`]);
    } catch (error) {
      // nobody knows what it holds now, and it would be paid for
      await client.removeVolume(id).catch(() => undefined);
      throw error;
    }
    onDisk({ file, label, sent, before: !base ? 'nothing' : blocks.length ? 'earlier' : 'same' });
    return id;
  }

  /** A sum of all that a volume holds, as the cloud reads it. */
  private async wholeSum(volume: string, size: number): Promise<string> {
    const ranges: Range[] = [];
    for (let at = 0; at < size; at += stretchBytes) ranges.push([at, Math.min(stretchBytes, size - at)]);
    const sums = await this.options.client.sums(volume, ranges);
    return createHash('sha256').update(sums.join('\n')).digest('hex');
  }

  /** What a volume holds, as the point says that it is marked with; undefined where that is not known, and where somebody wrote on it since. */
  private async heldBy(volume: CloudVolume, label: string): Promise<ImageMap | undefined> {
    const { rootOf, trees } = this.options;
    const [seriesId, taskId] = (markOf(volume, marks.point) ?? '').split('/');
    if (!seriesId || !taskId) return undefined;
    const root = await rootOf(seriesId, taskId);
    const file = root && fileOfDisk(root, label);
    const entry = file === undefined ? undefined : await entryAt(trees, topEntry(root!), file);
    const map = entry && (await ImageMap.of(entry, trees, this.zeros));
    if (map?.size !== volume.size) return undefined;
    return markOf(volume, marks.sum) === (await this.wholeSum(volume.id, volume.size)) ? map : undefined;
  }

  private async make(volumes: readonly string[]): Promise<CloudInstance> {
    const { client, stored, destination } = this.options;
    const { name, region, size, network, groups, publicAddress, tags } = destination;
    const there = (await client.catalog()).regions.find((r) => r.name === region)?.groups ?? [];
    for (const group of groups) if (!there.includes(group)) await client.makeGroup(region, group);
    const { system, firmware } = stored;
    // one that is made again and again is for no policy
    const own = this.round ? { name: `${name} (coming)`, tags: [] } : { name, tags };
    const asked = { ...own, region, size, network, groups, publicAddress, system, firmware, running: false, note: this.marker, volumes };
    return client.makeInstance(asked);
  }

  /** Gives an instance that is whole its name and lets it start. */
  private async finish(instance: CloudInstance): Promise<void> {
    const { client, destination, taskId, onInstance } = this.options;
    // from now on the machine writes on them: they wait for nobody
    for (const { id } of instance.volumes) await client.tagVolume(id, [`${marks.madeBy}${taskId}`]);
    await this.makeWay(instance);
    onInstance(instance);
    const { name, start } = destination;
    await client.changeInstance(instance.id, { ...(this.round && { name }), note: this.note });
    if (start) await client.changeInstance(instance.id, { running: true });
  }

  /** Takes away what the time before has made. */
  private async makeWay(instance: CloudInstance): Promise<void> {
    const { round } = this;
    if (!round) return;
    const { client, destination, onRemoved } = this.options;
    const old = (await client.instances()).filter(
      (i) => i.id !== instance.id && (i.id === round.before || (i.name === destination.name && i.note === round.note)),
    );
    for (const before of old)
      try {
        if (before.running) await client.changeInstance(before.id, { running: false });
        await client.removeInstance(before.id);
        onRemoved(before);
      } catch (error) {
        if (!isSourceError(error, 'MACHINE_GONE')) throw error;
      }
  }
}

/** Takes away an instance that a task has made, with its disks, if it is that. One that is gone is fine. Throws PLACE_REFUSED for another one. */
export async function removeMade(client: CloudClient, id: string, taskId: string): Promise<void> {
  let instance: CloudInstance;
  try {
    instance = await client.instance(id);
  } catch (error) {
    if (isSourceError(error, 'MACHINE_GONE')) return;
    throw error;
  }
  if (!instance.volumes.length || !instance.volumes.every((v) => markOf(v, marks.madeBy) === taskId))
    throw new SourceError('PLACE_REFUSED', `the disks of ${instance.name} are not all those that were made for it`);
  if (instance.running) await client.changeInstance(id, { running: false });
  await client.removeInstance(id);
}

/** The item of a disk in a point of a machine; undefined where it has none. */
export function fileOfDisk({ content }: Pick<Root, 'content'>, label: string): string | undefined {
  const { disks = [] } = content.facts as { readonly disks?: readonly { readonly label: string; readonly file: string }[] };
  return disks.find((d) => d.label === label && d.file !== '')?.file;
}
