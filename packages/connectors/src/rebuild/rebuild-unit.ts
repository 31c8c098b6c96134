import type { Duplex } from 'node:stream';
import { countOf, formatBytes } from '@lithodex/core';
import { EngineError } from '@lithodex/engine';
import { ServerPoint, type ServerVolume, type UnitTo } from '@lithodex/kinds';
import { FrameLink } from '../afar/frames';
import { parsed } from '../afar/messages';
import type { RestoreContext, RestoreOutcome, RestorePick } from '../connector';
import { treeOf } from '../readable-tree';
import { SourceError } from '../source-error';
import { Failed, fromUnit, Phase, silentMs, toUnit, type Order } from './unit-messages';
import { topOf, volumeArchive, type VolumeTree } from './volume-archive';

const frameBytes = 256 << 10;
const sumsAtOnce = 1000;
const lookEveryMs = 500;

/**
 * Makes a server anew on a unit: the unit comes to this mover, makes partitions and file systems, and writes what it is sent. Throws NO_SERVER, UNIT_LOST where it goes away, REBUILD_FAILED with what it failed
 * with, STOPPED.
 */
export async function rebuildUnit(ctx: RestoreContext, [pick]: readonly RestorePick[], to: UnitTo): Promise<RestoreOutcome> {
  const { root, store, top } = await pick!.open();
  const facts = ServerPoint.safeParse(root.content.facts).data;
  if (!facts) throw new SourceError('NO_SERVER', 'the point holds no system parts');
  if (ctx.trial) return { items: 0, summary: `${countOf(to.layout.length, 'disk')} of ${to.name} would be made anew; nothing was written` };
  const { unit } = ctx;
  if (!unit) throw new SourceError('REBUILD_FAILED', 'this mover reaches no units');
  const { system } = facts;
  const placed = new Set(to.layout.flatMap((d) => d.partitions.flatMap((p) => ('volume' in p.for ? [p.for.volume] : []))));
  const taken = system.volumes.filter((v) => v.taken && v.mount.startsWith('/'));
  const volumes = taken.filter((v) => placed.has(v.device)).sort((a, b) => orderOf(a) - orderOf(b));
  const order: Order = {
    taskId: ctx.taskId,
    firmware: to.firmware,
    disks: to.disks,
    layout: to.layout,
    system: { disks: system.disks, volumes: system.volumes },
    asItself: to.asItself,
  };
  const trees = volumes.map((volume): VolumeTree => {
    const otherMounts = new Set(taken.filter((v) => v !== volume).map((v) => v.mount));
    return { tree: treeOf(store), root, top, volume, otherMounts };
  });
  const items = await unit(to.name, (stream) => new Rebuilding(ctx, stream, to.name).run(order, trees));
  for (const v of taken)
    if (!placed.has(v.device)) ctx.note({ code: 'LEFT_OUT', path: '', message: `${v.mount} has no place on these disks` });
  const sizes = to.disks.filter((d) => to.layout.some((l) => l.disk === d.id)).reduce((sum, d) => sum + d.bytes, 0);
  return { items, summary: `${system.host || 'the server'} stands on ${to.name}, ${formatBytes(sizes)} of disks, and starts from there` };
}

/** Mounts before what is mounted in them, and what a firmware starts from at the very end: half a server does not start. */
const orderOf = ({ mount, fileSystem }: ServerVolume) => (fileSystem === 'vfat' ? 1e6 : 0) + mount.length;

/** One connection to a unit. */
class Rebuilding {
  private readonly link: FrameLink;
  private heard = Date.now();
  private failed: Error | undefined;
  private readonly awaited = new Map<number, () => void>();

  constructor(
    private readonly ctx: RestoreContext,
    private readonly stream: Duplex,
    private readonly name: string,
  ) {
    this.link = new FrameLink(stream);
  }

  async run(order: Order, volumes: readonly VolumeTree[]): Promise<number> {
    const watch = setInterval(() => {
      if (this.ctx.stopped()) this.breakOff(new EngineError('STOPPED'));
      else if (Date.now() - this.heard > silentMs) this.breakOff(this.lost());
    }, lookEveryMs);
    const heard = this.hear();
    try {
      this.ctx.phase('preparing disks');
      this.link.tell(toUnit.order, 0, order);
      await this.comes(fromUnit.ready);
      let items = 0;
      for (const volume of volumes) items += await this.write(volume);
      this.link.send(toUnit.finish, 0);
      await this.comes(fromUnit.done);
      return items;
    } catch (error) {
      // what it said last tells more than that the connection broke
      throw this.failed ?? error;
    } finally {
      clearInterval(watch);
      this.link.end();
      this.stream.destroy();
      await heard;
    }
  }

  private lost = () => new SourceError('UNIT_LOST', this.name);

  private breakOff(error: Error): void {
    this.failed ??= error;
    this.stream.destroy();
    for (const resume of this.awaited.values()) resume();
  }

  private async hear(): Promise<void> {
    try {
      for await (const { type, body } of this.link.frames()) {
        this.heard = Date.now();
        if (type === fromUnit.phase) this.ctx.phase(parsed(Phase, body).name);
        else if (type === fromUnit.failed) this.failed ??= new SourceError('REBUILD_FAILED', parsed(Failed, body).message);
        this.awaited.get(type)?.();
      }
      this.breakOff(this.lost());
    } catch (error) {
      this.breakOff(error instanceof SourceError ? error : this.lost());
    }
  }

  /** Waits until the unit says something of a type. */
  private async comes(type: number): Promise<void> {
    let came = false;
    await new Promise<void>((resume) => {
      this.awaited.set(type, () => {
        came = true;
        resume();
      });
      if (this.failed) resume();
    });
    this.awaited.delete(type);
    if (this.failed) throw this.failed;
    if (!came) throw this.lost();
  }

  private async write(from: VolumeTree): Promise<number> {
    const { mount, device }: ServerVolume = from.volume;
    this.ctx.phase(`writing ${mount}`);
    const top = await topOf(from);
    this.link.tell(toUnit.volume, 0, { device, mode: (top?.mode ?? 0o755) & 0o7777, uid: top?.uid ?? 0, gid: top?.gid ?? 0 });
    let items = 0;
    let sums: (readonly [string, string])[] = [];
    let parts: Buffer[] = [];
    let bytes = 0;
    const flush = async (least: number) => {
      if (bytes > 0 && bytes >= least) {
        this.link.send(toUnit.data, 0, ...parts);
        this.ctx.moved(bytes);
        [parts, bytes] = [[], 0];
        await this.link.drained();
        await this.ctx.drain();
        if (this.failed) throw this.failed;
      }
      if (sums.length > 0 && (sums.length >= sumsAtOnce || least === 0)) {
        this.link.send(toUnit.sums, 0, Buffer.from(JSON.stringify(sums), 'utf8'));
        sums = [];
      }
    };
    const archive = volumeArchive(from, (item) => {
      if (item.action !== 'failed') items++;
      this.ctx.done(item);
    });
    for await (const part of archive) {
      if ('sum' in part) sums.push(part.sum);
      else {
        parts.push(part.data);
        bytes += part.data.length;
      }
      await flush(frameBytes);
    }
    await flush(0);
    this.link.send(toUnit.ended, 0);
    return items;
  }
}
