import { randomBytes } from 'node:crypto';
import fs from 'node:fs';
import path from 'node:path';
import { setTimeout } from 'node:timers/promises';
import type { MachineWish, RunMachineWork, RunningMachine } from '@lithodex/contract';
import { isSourceError, LiveMachine, liveSource, platformClient, type LiveDisk, type PlatformMachine } from '@lithodex/connectors';
import { formatBytes } from '@lithodex/core';
import { EngineError, systemCode } from '@lithodex/engine';
import { z } from 'zod';
import { exportedOf, patient } from '../attach/exported';
import { NbdServer, nbdUser } from '../attach/nbd-server';
import { Overlay, OverlayRoom } from '../attach/overlay';
import { openPoint } from './open-point';
import { overlayFolder } from './overlay-folder';
import { noCounts, type TaskContext, type TaskResult } from './task-context';

const lookMs = 500;
const portMs = 1000;
/** So long a platform has to say that there is no such machine: what it wrote goes with it. */
const goneMs = 10_000;
/** Part of the room for the overlay from which on somebody has to know. */
const fills = 0.8;
const storeMs = 60_000;

/** What outlasts the end of this process: how the platform reaches the disks, and the machine. */
const Kept = z.object({ port: z.int(), key: z.string(), machine: z.string(), started: z.boolean() });
type Kept = z.infer<typeof Kept>;

/** Runs a machine from the store: shows its disks to the platform, keeps what it writes beside, and lets it go where it is wanted. */
export async function runMachine(ctx: TaskContext, work: RunMachineWork): Promise<TaskResult> {
  ctx.phase('opening');
  const folder = overlayFolder(ctx, work.overlay);
  const client = platformClient(work.platform);
  const { stored, disks } = await sourceFor(ctx, work, keptIn(folder));
  const machine = new LiveMachine(client, work.place, ctx.task.id, stored);
  const running = new MachineFromStore(ctx, work, folder, machine, disks);
  try {
    await running.listen();
    await running.begin(() => machine.begin(running.shownDisks()));
    await running.follow();
  } catch (error) {
    if (!running.started && !ctx.stopped()) await running.away();
    throw error;
  } finally {
    running.close();
  }
  const { used } = running.room;
  await running.away();
  return ended(used);
}

/** What the point holds of the machine; one that runs waits for it as long as it takes. */
async function sourceFor(ctx: TaskContext, work: RunMachineWork, kept: Kept | undefined): ReturnType<typeof liveSource> {
  for (let told = false; ; told = true)
    try {
      return await liveSource(await openPoint(ctx.stores, work.point));
    } catch (error) {
      if (!kept?.started) throw error;
      if (ctx.stopped()) throw new EngineError('STOPPED');
      if (!told) ctx.log({ level: 'warning', code: 'POINT_AWAY', path: '', message: String(error) });
      await setTimeout(storeMs / 10);
    }
}

function ended(bytes: number): TaskResult {
  return { counts: { ...noCounts, items: 1, bytes }, bytes };
}

function keptIn(folder: string): Kept | undefined {
  const file = path.join(folder, 'machine.json');
  return fs.existsSync(file) ? Kept.parse(JSON.parse(fs.readFileSync(file, 'utf8'))) : undefined;
}

/** A machine while it runs from the store. */
class MachineFromStore {
  readonly room: OverlayRoom;
  private readonly overlays = new Map<string, { readonly label: string; readonly overlay: Overlay }>();
  private readonly server: NbdServer;
  private kept: Kept;
  private state: RunningMachine['state'] = 'starting';
  private problem = '';
  private disks: RunningMachine['disks'] = [];
  private warned = false;
  private read = 0;

  constructor(
    private readonly ctx: TaskContext,
    work: RunMachineWork,
    private readonly folder: string,
    private readonly machine: LiveMachine,
    disks: readonly LiveDisk[],
  ) {
    fs.mkdirSync(folder, { recursive: true, mode: 0o700 });
    this.room = new OverlayRoom(work.overlay.most);
    for (const [i, { label, blocks }] of disks.entries()) {
      const below = patient(exportedOf(blocks), storeMs, () => ctx.stopped());
      this.overlays.set(`disk-${i}`, { label, overlay: new Overlay(path.join(folder, `${i}`), below, this.room) });
    }
    this.kept = keptIn(folder) ?? { port: 0, key: randomBytes(32).toString('hex'), machine: '', started: false };
    const exports = new Map([...this.overlays].map(([name, { overlay }]) => [name, overlay]));
    this.server = new NbdServer({ exports, onRead: (bytes) => (this.read += bytes) }, Buffer.from(this.kept.key, 'hex'));
  }

  get started(): boolean {
    return this.kept.started;
  }

  private keep(news: Partial<Kept>): void {
    this.kept = { ...this.kept, ...news };
    const file = path.join(this.folder, 'machine.json');
    fs.writeFileSync(`${file}.new`, JSON.stringify(this.kept), { mode: 0o600, flush: true });
    fs.renameSync(`${file}.new`, file);
  }

  /** Listens where the platform knows it from before; while another attempt is still at it, that is waited for. */
  async listen(): Promise<void> {
    for (;;)
      try {
        this.keep({ port: await this.server.listen(this.ctx.attachAt, this.kept.port) });
        return;
      } catch (error) {
        const code = systemCode(error);
        if (code !== 'EADDRINUSE' && !this.started) throw error;
        if (this.ctx.stopped()) throw new EngineError('STOPPED');
        this.tell({ problem: `its disks can not be shown at ${this.ctx.attachAt}, port ${this.kept.port}: ${code ?? String(error)}` });
        await setTimeout(portMs);
      }
  }

  /** The disks as the platform is told of them. */
  shownDisks() {
    const { port, key } = this.kept;
    return [...this.overlays].map(([name, { label, overlay }]) => ({
      label,
      size: overlay.size,
      remote: { host: this.ctx.attachAt, port, name, user: nbdUser, key },
    }));
  }

  async begin(make: () => Promise<string>): Promise<void> {
    this.tell({ problem: '' });
    if (this.started) {
      this.note('MACHINE_GOES_ON', `what it wrote before is there: ${formatBytes(this.room.used)}`);
      return;
    }
    this.ctx.phase('starting');
    const began = performance.now();
    this.keep({ machine: await make() });
    this.keep({ started: true });
    this.note('MACHINE_STARTED', `runs from the store after ${((performance.now() - began) / 1000).toFixed(1)} s`);
  }

  private note(code: string, message: string, level: 'note' | 'warning' = 'note'): void {
    this.ctx.log({ level, code, path: '', message });
  }

  private tell(news: { readonly state?: RunningMachine['state']; readonly problem?: string }): void {
    this.state = news.state ?? this.state;
    this.problem = news.problem ?? this.problem;
    const { used, most } = this.room;
    const machine = { state: this.state, machine: this.kept.machine, disks: this.disks, overlay: { used, most }, problem: this.problem };
    const moved = { items: this.server.clients, bytes: this.read, read: this.read, fresh: used, stored: 0 };
    this.ctx.progress({ phase: this.state, ...moved, expectedItems: 0, expectedBytes: 0, machine });
  }

  /** Until it lies elsewhere or is dropped. What fails meanwhile is told and tried again: the machine needs its disks. */
  async follow(): Promise<void> {
    this.ctx.phase('running');
    for (let goneSince = Infinity; ;) {
      if (this.ctx.stopped()) throw new EngineError('STOPPED');
      try {
        if (await this.step(this.ctx.wish() ?? { to: 'run' })) return;
        goneSince = Infinity;
      } catch (error) {
        goneSince = isSourceError(error, 'MACHINE_GONE') ? Math.min(goneSince, Date.now()) : Infinity;
        if (Date.now() - goneSince >= goneMs) {
          this.note('MACHINE_GONE', 'somebody took the machine away on the platform, with what it wrote', 'warning');
          return;
        }
        this.tell({ problem: error instanceof Error ? error.message : String(error) });
      }
      await setTimeout(lookMs);
    }
  }

  /** Whether it is done. */
  private async step(wish: MachineWish): Promise<boolean> {
    const now = await this.machine.look(this.kept.machine);
    this.disks = now.disks.map(({ label, size, storage, elsewhere }) => ({
      label,
      size,
      storage: elsewhere?.storage ?? storage,
      copied: elsewhere?.done ?? 0,
      toCopy: elsewhere?.of ?? 0,
    }));
    this.watchRoom();
    if (now.disks.every((d) => !d.elsewhere)) return this.left(now);
    if (wish.to === 'drop') return this.drop();
    if (wish.to === 'run') {
      this.tell({ state: 'running', problem: '' });
      return false;
    }
    await this.machine.copy(now, wish.storage, wish.pace);
    const whole = now.disks.every((d) => d.elsewhere?.whole ?? true);
    if (wish.to === 'copy' || !whole) {
      this.tell({ state: whole ? 'copied' : 'copying', problem: '' });
      return false;
    }
    this.tell({ state: 'cuttingOver' });
    this.ctx.phase('cutting over');
    const began = performance.now();
    await this.machine.cutOver(now, wish.stopped);
    const how = wish.stopped ? 'it was stopped for' : 'while it ran, in';
    return this.left(await this.machine.look(this.kept.machine), `${how} ${Math.round(performance.now() - began)} ms`);
  }

  private left({ disks, host }: PlatformMachine, how = 'on the platform'): boolean {
    const storages = [...new Set(disks.map((d) => d.storage))].join(', ');
    this.note('MACHINE_LEFT', `lies on ${storages} and runs on ${host} without the store: ${how}`);
    return true;
  }

  private async drop(): Promise<boolean> {
    this.tell({ state: 'dropping' });
    this.ctx.phase('dropping');
    await this.machine.drop(this.kept.machine);
    this.note('MACHINE_DROPPED', `taken away with the ${formatBytes(this.room.used)} it wrote`);
    return true;
  }

  private watchRoom(): void {
    const { used, most } = this.room;
    if (this.warned || used < most * fills) return;
    this.warned = true;
    this.note(
      'OVERLAY_FILLS',
      `${formatBytes(used)} of ${formatBytes(most)} for what it writes are used: copy it to a storage, or it will be refused to write`,
      'warning',
    );
  }

  close(): void {
    this.server.close();
    for (const { overlay } of this.overlays.values()) overlay.close();
  }

  /** Takes away what was kept of it; a machine that was made and never started as well. */
  async away(): Promise<void> {
    if (!this.kept.started && this.kept.machine) await this.machine.drop(this.kept.machine);
    fs.rmSync(this.folder, { recursive: true, force: true });
  }
}
