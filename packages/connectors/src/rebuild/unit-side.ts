import { spawn, type ChildProcess } from 'node:child_process';
import { createHash } from 'node:crypto';
import { once } from 'node:events';
import fs from 'node:fs';
import type { Duplex } from 'node:stream';
import { escapePath, formatBytes, safeParts } from '@lithodex/core';
import type { UnitDisk } from '@lithodex/kinds';
import { FrameLink } from '../afar/frames';
import { parsed } from '../afar/messages';
import { SourceError } from '../source-error';
import type { UnitDisksBegun, UnitHands } from './unit-hands';
import { aliveEveryMs, fromUnit, Order, Sums, toUnit, VolumeBegins } from './unit-messages';

const readAtOnce = 1 << 20;
const mostSaid = 2000;

/** Makes the disks of this unit anew by what comes over a connection. True when they are whole. Failures are told to the other side, after `cleared`, once nothing is left of the attempt. */
export async function beRebuilt(stream: Duplex, hands: UnitHands, cleared: () => Promise<void>): Promise<boolean> {
  return new BeingRebuilt(stream, hands, cleared).run();
}

/** What stands against an order on this unit as it is now; undefined for nothing. What the same task left half made may be on it. */
export function refusal(order: Order, now: readonly UnitDisk[], halfMade: ReadonlyMap<string, string>): string | undefined {
  for (const { disk: id } of order.layout) {
    const then = order.disks.find((d) => d.id === id);
    const there = now.find((d) => d.id === id);
    if (!then || !there) return `the disk ${id} is not there any more`;
    if (there.bytes !== then.bytes) return `the disk ${id} has ${formatBytes(there.bytes)} now, and had ${formatBytes(then.bytes)}`;
    if (there.holds !== '' && there.holds !== then.holds && halfMade.get(id) !== order.taskId)
      return `the disk ${id} holds something else now: ${there.holds}`;
  }
  return undefined;
}

/** An archive that is being unpacked to a folder. */
interface Unpacking {
  readonly folder: string;
  readonly tar: ChildProcess;
  readonly ended: Promise<void>;
  readonly sums: (readonly [string, string])[];
}

class BeingRebuilt {
  private readonly link: FrameLink;
  private begun: UnitDisksBegun | undefined;
  private unpacking: Unpacking | undefined;

  constructor(
    stream: Duplex,
    private readonly hands: UnitHands,
    private readonly cleared: () => Promise<void>,
  ) {
    this.link = new FrameLink(stream);
  }

  private readonly phase = (name: string): void => {
    this.link.tell(fromUnit.phase, 0, { name });
  };

  async run(): Promise<boolean> {
    const alive = setInterval(() => {
      this.link.send(fromUnit.alive, 0);
    }, aliveEveryMs);
    try {
      // leaving a loop over them would end the connection before the last word is said
      const frames = this.link.frames();
      for (;;) {
        const next = await frames.next();
        if (next.done) throw new SourceError('KEEPER_LOST');
        if (await this.take(next.value.type, next.value.body)) return true;
      }
    } catch (error) {
      this.unpacking?.tar.kill('SIGKILL');
      // it holds the volume until it is gone
      await this.unpacking?.ended.catch(() => undefined);
      await this.begun?.giveUp().catch(() => undefined);
      await this.cleared().catch(() => undefined);
      const message = (error instanceof Error ? error.message : String(error)).replace(/\.$/, '').slice(0, mostSaid);
      this.link.tell(fromUnit.failed, 0, { message });
      return false;
    } finally {
      clearInterval(alive);
      this.link.end();
    }
  }

  /** True when all is done. */
  private async take(type: number, body: Buffer<ArrayBuffer>): Promise<boolean> {
    switch (type) {
      case toUnit.order:
        await this.begin(parsed(Order, body));
        return false;
      case toUnit.volume:
        await this.open(parsed(VolumeBegins, body));
        return false;
      case toUnit.data:
        await this.write(body);
        return false;
      case toUnit.sums:
        this.at().sums.push(...parsed(Sums, body));
        return false;
      case toUnit.ended:
        await this.close();
        return false;
      case toUnit.finish:
        if (!this.begun || this.unpacking) throw new SourceError('LINK_BROKEN', 'it ends before it has all');
        await this.begun.finish();
        this.link.send(fromUnit.done, 0);
        return true;
      default:
        throw new SourceError('LINK_BROKEN', 'a message of no known type');
    }
  }

  private at(): Unpacking {
    if (!this.unpacking) throw new SourceError('LINK_BROKEN', 'content of no volume');
    return this.unpacking;
  }

  private async begin(order: Order): Promise<void> {
    if (this.begun) throw new SourceError('LINK_BROKEN', 'a second order');
    const { disks } = await this.hands.facts();
    const against = refusal(order, disks, await this.hands.halfMade());
    if (against) throw new SourceError('REBUILD_FAILED', against);
    this.begun = await this.hands.begin(order, this.phase);
    this.link.send(fromUnit.ready, 0);
  }

  private async open({ device, mode, uid, gid }: VolumeBegins): Promise<void> {
    const folder = await this.begun?.folderOf(device);
    if (folder === undefined || this.unpacking) throw new SourceError('LINK_BROKEN', 'a volume that is not awaited');
    fs.chownSync(folder, uid, gid);
    fs.chmodSync(folder, mode);
    const how = [
      '--numeric-owner',
      '--same-owner',
      '--preserve-permissions',
      '--xattrs',
      '--xattrs-include=*',
      '--delay-directory-restore',
    ];
    const tar = spawn('tar', ['--extract', `--directory=${folder}`, ...how], { stdio: ['pipe', 'ignore', 'pipe'] });
    let said = '';
    tar.stderr.setEncoding('utf8').on('data', (text: string) => (said = (said + text).slice(-mostSaid)));
    tar.stdin.on('error', () => undefined);
    const ended = new Promise<void>((resolve, reject) => {
      tar.once('error', (error: NodeJS.ErrnoException) => {
        reject(error.code === 'ENOENT' ? new SourceError('PROGRAM_MISSING', 'tar') : error);
      });
      tar.once('close', (status) => {
        if (status === 0) resolve();
        else reject(new SourceError('REBUILD_FAILED', `tar ended with ${status}: ${said.trim().split('\n').at(-1) ?? ''}`));
      });
    });
    ended.catch(() => undefined);
    this.unpacking = { folder, tar, ended, sums: [] };
  }

  private async write(data: Buffer): Promise<void> {
    const { tar, ended } = this.at();
    if (!tar.stdin!.write(data)) await Promise.race([once(tar.stdin!, 'drain'), ended]);
  }

  private async close(): Promise<void> {
    const { folder, tar, ended, sums } = this.at();
    tar.stdin!.end();
    await ended;
    this.phase('comparing');
    for (const [path, sum] of sums)
      if ((await sumOf(folder, path)) !== sum) throw new SourceError('NOT_AS_STORED', escapePath(path).slice(0, 300));
    this.unpacking = undefined;
  }
}
type VolumeBegins = ReturnType<typeof VolumeBegins.parse>;

/** SHA-256 of a file below a folder, in hexadecimal digits; '' where there is none. */
async function sumOf(folder: string, path: string): Promise<string> {
  if (!safeParts(path)) throw new SourceError('LINK_BROKEN', 'a path that leads out of its volume');
  const hash = createHash('sha256');
  try {
    const place = Buffer.concat([Buffer.from(`${folder}/`), Buffer.from(path, 'latin1')]);
    const file = await fs.promises.open(place, fs.constants.O_RDONLY | fs.constants.O_NOFOLLOW);
    try {
      const piece = Buffer.allocUnsafe(readAtOnce);
      for (;;) {
        const { bytesRead } = await file.read(piece, 0, piece.length);
        if (bytesRead === 0) return hash.digest('hex');
        hash.update(piece.subarray(0, bytesRead));
      }
    } finally {
      await file.close();
    }
  } catch (error) {
    if ((error as NodeJS.ErrnoException).code === 'ENOENT') return '';
    throw error;
  }
}
