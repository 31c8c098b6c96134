import fs from 'node:fs';
import { setTimeout } from 'node:timers/promises';
import type { DrillCheck, DrillResult, MachineWish, PlatformRef, RunMachineWork, RunningMachine } from '@lithodex/contract';
import { InsideClient, LiveMachine, platformClient, SourceError, storedMachine, type PlatformMachine } from '@lithodex/connectors';
import { EngineError } from '@lithodex/engine';
import { runMachine } from '../work/run-machine';
import type { TaskContext } from '../work/task-context';
import { DrillError } from './drill-error';
import type { Drilled, DrillRoom } from './drill-room';

const lookMs = 250;
/** So long it has to go on running before it counts as started. */
const steadyMs = 2000;
/** What such a machine may write. */
const mostWritten = 20e9;

export interface MachinePlace {
  readonly platform: PlatformRef;
  readonly host: string;
  readonly folder: string;
}

/** A machine that runs straight from the store, on no network. */
export class MachineRoom implements DrillRoom {
  readonly words: string;
  private readonly name: string;
  private wish: MachineWish = { to: 'run' };
  private running: Promise<unknown> | undefined;
  private failed: { readonly error: unknown } | undefined;
  private state: RunningMachine | undefined;

  constructor(
    private readonly drilled: Drilled,
    private readonly task: TaskContext,
    private readonly work: Pick<RunMachineWork, 'point'>,
    private readonly at: MachinePlace,
    private readonly patience: number,
    /** For what it writes. */
    private readonly folder: string,
  ) {
    this.name = `drill-${task.task.id.slice(-8)}`;
    this.words = `a machine of its own on ${at.host}, on no network`;
  }

  private get place(): RunMachineWork['place'] {
    return { name: this.name, host: this.at.host, folder: this.at.folder, networks: [] };
  }

  async clear(): Promise<void> {
    fs.rmSync(this.folder, { recursive: true, force: true });
    const client = platformClient(this.at.platform);
    const { store, top } = this.drilled.point;
    const machine = new LiveMachine(client, this.place, this.task.task.id, await storedMachine(store, top));
    const left = (await client.inventory()).machines.find((m) => m.name === this.name && m.note === machine.note);
    if (left) await machine.drop(left.id);
  }

  async bringBack(): Promise<void> {
    const overlay = { folder: '', most: mostWritten };
    const work: RunMachineWork = {
      type: 'runMachine',
      ...this.work,
      platform: this.at.platform,
      place: this.place,
      overlay,
      wish: this.wish,
    };
    const ctx: TaskContext = {
      ...this.task,
      overlays: this.folder,
      wish: () => this.wish,
      phase: () => undefined,
      progress: ({ machine }) => {
        this.state = machine ?? this.state;
      },
    };
    this.running = runMachine(ctx, work).catch((error: unknown) => {
      this.failed = { error };
    });
    const until = Date.now() + this.patience * 1000;
    let steadySince = Infinity;
    for (;;) {
      if (this.failed) throw this.failed.error;
      if (this.drilled.ctx.stopped()) throw new EngineError('STOPPED');
      const machine = await this.now();
      steadySince = machine?.running ? Math.min(steadySince, Date.now()) : Infinity;
      if (Date.now() - steadySince >= steadyMs) break;
      if (Date.now() > until) throw new DrillError(`The machine was not up after ${this.patience} s`);
      await setTimeout(lookMs);
    }
    this.drilled.ctx.done({ path: '', action: 'write', kind: 'folder', bytes: 0, remark: '' });
  }

  /** The machine as its platform tells of it. */
  private async now(): Promise<PlatformMachine | undefined> {
    const id = this.state?.machine;
    return id ? platformClient(this.at.platform).machine(id) : undefined;
  }

  async looks(): Promise<DrillResult[]> {
    const machine = await this.now();
    return [{ what: 'The machine starts', found: machine?.running ? 'it runs' : 'it does not run', passed: machine?.running === true }];
  }

  async look(check: DrillCheck): Promise<DrillResult | undefined> {
    if (check.check === 'file') return this.file(check);
    if (check.check === 'service') return this.service(check);
    return undefined;
  }

  /** Asked of the helper inside, so that it is read by the system that was started. */
  private async file({ path, sum, holds }: Extract<DrillCheck, { check: 'file' }>): Promise<DrillResult> {
    const what = `${path} is there, says the helper inside${sum ? `, with the sum ${sum.slice(0, 12)}…` : ''}`;
    if (holds) return { what, found: 'a helper tells the sum of a file, not what is in it: give its sum', passed: false };
    try {
      const found = await new InsideClient(platformClient(this.at.platform), this.state?.machine ?? '', null).sum(path);
      return { what, found: sum && found !== sum ? `its sum is ${found}` : `${found.slice(0, 12)}…`, passed: sum === '' || found === sum };
    } catch (error) {
      if (!(error instanceof SourceError)) throw error;
      return { what, found: error.message, passed: false };
    }
  }

  private async service(check: Extract<DrillCheck, { check: 'service' }>): Promise<DrillResult> {
    const what = `${check.name} runs in it`;
    const until = Date.now() + this.patience * 1000;
    for (;;) {
      const machine = await this.now();
      if (machine?.services?.includes(check.name)) return { what, found: 'it runs', passed: true };
      if (Date.now() > until || this.drilled.ctx.stopped()) {
        const there = machine?.services?.length ? `only ${machine.services.join(', ')}` : 'its helper tells of nothing';
        return { what, found: `${there} after ${this.patience} s`, passed: false };
      }
      await setTimeout(lookMs);
    }
  }

  told(): Record<string, string> {
    return { LITHODEX_DRILL_MACHINE: this.state?.machine ?? '' };
  }

  async remove(): Promise<void> {
    this.wish = { to: 'drop' };
    await this.running;
    await this.clear();
  }
}
