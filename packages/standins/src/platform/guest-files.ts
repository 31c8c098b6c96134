import { execFile } from 'node:child_process';
import { createHash, randomUUID } from 'node:crypto';
import fs from 'node:fs';
import os from 'node:os';
import path from 'node:path';
import { promisify } from 'node:util';
import type { InsideAccount } from './description';
import { fileSystemStart } from './guest-image';
import { changeDisk } from './guests';
import type { Machine, Platform } from './platform';
import { PlatformError } from './platform-error';

const run = promisify(execFile);

export interface GuestProperties {
  readonly mode: number;
  readonly uid: number;
  readonly gid: number;
  /** ms. */
  readonly mtime: number;
}

export interface GuestItem {
  readonly name: string;
  readonly kind: 'file' | 'folder' | 'link' | 'other';
  readonly size: number;
  /** ms, to the minute. */
  readonly mtime: number;
}

type Waiting = GuestProperties &
  ({ readonly kind: 'file'; readonly file: string } | { readonly kind: 'folder' } | { readonly kind: 'link'; readonly target: string });

interface Place {
  readonly disk: string;
  readonly isFirst: boolean;
  /** Path within its file system. */
  readonly path: string;
}

const lastWord = (name: string) => name.slice(name.lastIndexOf('/') + 1);

/**
 * Files inside machines while they run. What is written is gathered as a running system would, and put on the disks when somebody looks, or takes a snapshot. The first disk is
 * mounted at /, the others at / and their label.
 */
export class GuestFiles {
  private readonly waiting = new Map<string, Map<string, Waiting>>();
  private readonly folder = fs.mkdtempSync(path.join(os.tmpdir(), 'inside-'));
  private turn: Promise<unknown> = Promise.resolve();

  constructor(private readonly platform: Platform) {}

  close(): void {
    fs.rmSync(this.folder, { recursive: true, force: true });
  }

  /** Lets an account in, or whoever the helper inside answers. Throws MACHINE_OFF, INSIDE_REFUSED. */
  enter(id: string, account: InsideAccount | null): Machine {
    const machine = this.platform.machine(id);
    if (!machine.running) throw new PlatformError('MACHINE_OFF', `${machine.name} is off`);
    if (account) this.platform.signInInside(id, account);
    else if (!machine.helper) throw new PlatformError('INSIDE_REFUSED', `there is no helper inside ${machine.name}`);
    return machine;
  }

  mounts(machine: Machine): { disk: string; volume: string; at: string }[] {
    return machine.disks.map((disk, i) => ({ disk: disk.id, volume: i === 0 ? 'p2' : 'p1', at: i === 0 ? '/' : `/${disk.label}` }));
  }

  private placeOf(machine: Machine, wanted: string): Place {
    if (!/^\/[^"\n\\]*$/.test(wanted) || wanted.split('/').some((part) => part === '..' || part === '.'))
      throw new PlatformError('INVALID', 'no path of this system');
    const other = machine.disks.slice(1).find((d) => wanted === `/${d.label}` || wanted.startsWith(`/${d.label}/`));
    if (other) return { disk: other.id, isFirst: false, path: wanted.slice(other.label.length + 1) || '/' };
    return { disk: machine.disks[0]!.id, isFirst: true, path: wanted };
  }

  private async imageOf(machine: Machine, disk: string, isFirst: boolean): Promise<string> {
    await this.platform.remoteOf(disk)?.have(0, this.platform.diskOf(machine.id, disk).size);
    return `${this.platform.fileOf(machine.id, disk)}?offset=${fileSystemStart(isFirst)}`;
  }

  /** Items of a folder; undefined where there is none. */
  async list(machine: Machine, wanted: string): Promise<GuestItem[] | undefined> {
    await this.settle(machine.id);
    const { disk, isFirst, path: own } = this.placeOf(machine, wanted);
    const image = await this.imageOf(machine, disk, isFirst);
    const { stdout } = await run('debugfs', ['-R', `ls -l "${own}"`, image], { maxBuffer: 1 << 26 });
    const rows = stdout.matchAll(/^\s*(\d+)\s+(\d{5,6})\s+\(\d+\)\s+\d+\s+\d+\s+(\d+)\s+(\d+-\w+-\d{4} \d+:\d+) (.*)$/gm);
    const items = [...rows].map(([, inode, mode, size, when, name]): GuestItem & { inode: string } => {
      const kinds: Readonly<Record<string, GuestItem['kind']>> = { '10': 'file', '04': 'folder', '12': 'link' };
      const kind = kinds[mode!.padStart(6, '0').slice(0, 2)] ?? 'other';
      return { inode: inode!, name: name!, kind, size: Number(size), mtime: Date.parse(`${when!.replaceAll('-', ' ')} UTC`) };
    });
    if (!items.some((i) => i.name === '.')) return undefined;
    return items.filter((i) => i.inode !== '0' && i.name !== '.' && i.name !== '..').map(({ inode, ...item }) => item);
  }

  /** The bytes of a file. */
  async read(machine: Machine, wanted: string): Promise<Buffer> {
    await this.settle(machine.id);
    const { disk, isFirst, path: own } = this.placeOf(machine, wanted);
    const to = path.join(this.folder, randomUUID());
    const image = await this.imageOf(machine, disk, isFirst);
    await run('debugfs', ['-R', `dump "${own}" ${to}`, image]);
    if (!fs.existsSync(to)) throw new PlatformError('NOT_FOUND', 'there is no such file inside');
    const data = fs.readFileSync(to);
    fs.rmSync(to);
    return data;
  }

  async sum(machine: Machine, wanted: string): Promise<{ sum: string }> {
    return {
      sum: createHash('sha256')
        .update(await this.read(machine, wanted))
        .digest('hex'),
    };
  }

  /** Takes a piece of a file; with the last one the file is there under its name. */
  write(machine: Machine, wanted: string, upload: string, last: GuestProperties | null, data: Buffer): void {
    this.placeOf(machine, wanted);
    if (!/^[\w-]{1,80}$/.test(upload)) throw new PlatformError('INVALID', 'no name of an upload');
    const file = path.join(this.folder, `${machine.id}-${upload}`);
    fs.appendFileSync(file, data);
    if (last) this.put(machine.id, wanted, { kind: 'file', file, ...last });
  }

  make(machine: Machine, wanted: string, item: { kind: 'folder' } | { kind: 'link'; target: string }, properties: GuestProperties): void {
    this.placeOf(machine, wanted);
    if (item.kind === 'link' && /["\n\\]/.test(item.target)) throw new PlatformError('INVALID', 'no target of this system');
    this.put(machine.id, wanted, { ...item, ...properties });
  }

  private put(id: string, wanted: string, item: Waiting): void {
    const own = this.waiting.get(id) ?? new Map<string, Waiting>();
    own.set(wanted, item);
    this.waiting.set(id, own);
  }

  /** Puts what was written on the disks. */
  settle(id: string): Promise<void> {
    const settled = this.turn.then(() => this.flush(id));
    this.turn = settled.catch(() => undefined);
    return settled;
  }

  private async flush(id: string): Promise<void> {
    const own = this.waiting.get(id);
    if (!own?.size) return;
    this.waiting.delete(id);
    const machine = this.platform.machine(id);
    const scripts = new Map<string, { isFirst: boolean; lines: string[] }>();
    for (const [wanted, item] of own) {
      const place = this.placeOf(machine, wanted);
      const script = scripts.get(place.disk) ?? { isFirst: place.isFirst, lines: [] };
      scripts.set(place.disk, script);
      script.lines.push(...linesFor(place.path, item));
    }
    for (const [disk, { isFirst, lines }] of scripts) {
      const script = path.join(this.folder, `${randomUUID()}.script`);
      fs.writeFileSync(script, `${lines.join('\n')}\n`, 'latin1');
      await changeDisk(this.platform, machine, disk, (image) =>
        run('debugfs', ['-w', '-f', script, `${image}?offset=${fileSystemStart(isFirst)}`], { maxBuffer: 1 << 26 }),
      );
      fs.rmSync(script);
    }
    for (const item of own.values()) if (item.kind === 'file') fs.rmSync(item.file, { force: true });
  }
}

/** What debugfs is told to put an item in its place. */
function linesFor(own: string, item: Waiting): string[] {
  const { mode, uid, gid, mtime } = item;
  const parent = own.slice(0, own.lastIndexOf('/')) || '/';
  const type = item.kind === 'file' ? 0o100000 : item.kind === 'folder' ? 0o040000 : 0o120000;
  const made =
    item.kind === 'folder'
      ? [`mkdir "${own}"`]
      : item.kind === 'file'
        ? [`rm "${own}"`, `write ${item.file} "${own}"`]
        : [`rm "${own}"`, `cd "${parent}"`, `symlink "${lastWord(own)}" "${item.target}"`, 'cd /'];
  const fields = [`mode 0${(type | mode).toString(8)}`, `uid ${uid}`, `gid ${gid}`, `mtime @${Math.floor(mtime / 1000)}`];
  return [...made, ...fields.map((field) => `sif "${own}" ${field}`)];
}
