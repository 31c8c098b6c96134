import fs from 'node:fs';
import path from 'node:path';
import type { DrillCheck, DrillResult, DrillStep, DrillWork } from '@lithodex/contract';
import { countOf, formatDuration } from '@lithodex/core';
import { causeOf } from '../causes';
import { DrillError } from '../drill/drill-error';
import { Restored, type Drilled, type DrillRoom } from '../drill/drill-room';
import { FolderRoom } from '../drill/folder-room';
import { MachineRoom } from '../drill/machine-room';
import { NamespaceRoom } from '../drill/namespace-room';
import { ScratchRoom } from '../drill/scratch-room';
import { OpenedPoints } from './open-point';
import { targetsOf } from './targets-of';
import { runScript, ScriptError } from './script';
import { noCounts, type TaskContext, type TaskResult } from './task-context';

/** Brings a point back to a place of its own, looks at it, removes it again, and tells what came of it. */
export async function runDrill(ctx: TaskContext, work: DrillWork): Promise<TaskResult> {
  const drill = new Drill(ctx, work);
  const ended = await drill.run();
  // whoever has it now begins again, and removes what this one leaves
  if (ended?.code === 'STOPPED') throw ended;
  await drill.tell();
  if (ended) throw ended;
  const failed = drill.results.find((r) => !r.passed);
  if (failed) throw new DrillError(`${failed.what}: ${failed.found}`);
  const { items, bytes } = drill.restored;
  return { counts: { ...noCounts, items, bytes }, bytes };
}

class Drill {
  readonly restored = new Restored();
  readonly results: DrillResult[] = [];
  private readonly steps: DrillStep[] = [];
  private usableMs: number | null = null;
  private left = '';
  private words = '';

  constructor(
    private readonly ctx: TaskContext,
    private readonly work: DrillWork,
  ) {}

  /** Gives what it was ended by, if anything. */
  async run(): Promise<(Error & { readonly code?: unknown }) | undefined> {
    const began = performance.now();
    let room: DrillRoom | undefined;
    let ended: Error | undefined;
    try {
      const own = (room = await this.step('opening', () => this.room()));
      this.words = own.words;
      await this.step('clearing', async () => {
        await removeAbandoned(this.ctx);
        await own.clear();
      });
      await this.step('restoring', () => own.bringBack());
      this.results.push(this.restored.result());
      this.results.push(...(await this.step('looking', () => own.looks())));
      for (const check of this.work.checks) this.results.push(await this.step('checking', () => this.look(own, check)));
      this.usableMs = Math.round(performance.now() - began);
    } catch (error) {
      ended = error instanceof Error ? error : new Error(String(error));
      const what = this.results.length ? 'It can be looked at' : 'It comes back';
      this.results.push({ what, found: causeOf(error).message.slice(0, 1000), passed: false });
    }
    if (room) await this.step('removing', () => this.remove(room));
    this.objective();
    return ended;
  }

  private async step<T>(name: string, act: () => Promise<T>): Promise<T> {
    this.ctx.phase(name);
    const began = performance.now();
    try {
      return await act();
    } finally {
      const ms = Math.round(performance.now() - began);
      const same = this.steps.findIndex((s) => s.name === name);
      if (same < 0) this.steps.push({ name, ms });
      else this.steps[same] = { name, ms: this.steps[same]!.ms + ms };
    }
  }

  private async room(): Promise<DrillRoom> {
    const { ctx, work } = this;
    // what is still in memory of it proves nothing
    for (const { id } of targetsOf(work)) ctx.stores.forget(id);
    const points = new OpenedPoints(ctx.stores, (name) => {
      const message = `what is missing or damaged on the first target was read from ${name}`;
      ctx.log({ level: 'warning', code: 'READ_ELSEWHERE', path: '', message });
    });
    const pick = { path: '', to: '', base: '', open: () => points.open(work.point), find: () => points.find(work.point, '') };
    const drilled: Drilled = { ctx: this.restoreContext(), pick, point: await points.open(work.point) };
    const folder = path.join(roomsOf(ctx), ctx.task.id);
    switch (work.room.in) {
      case 'folder':
        return new FolderRoom(drilled, folder, work.expected.bytes);
      case 'scratch':
        return new ScratchRoom(drilled, work.room.family);
      case 'machine':
        return new MachineRoom(drilled, ctx, work, work.room, work.patience, folder);
      case 'namespace':
        return new NamespaceRoom(drilled, work.room.server, work.patience);
    }
  }

  private restoreContext(): Drilled['ctx'] {
    const { ctx, work, restored } = this;
    let moved = 0;
    const tell = () => {
      const { items: expectedItems, bytes: expectedBytes } = work.expected;
      const bytes = Math.max(restored.bytes, moved);
      ctx.progress({ phase: 'restoring', items: restored.items, bytes, read: moved, fresh: 0, stored: 0, expectedItems, expectedBytes });
    };
    return {
      taskId: ctx.task.id,
      trial: false,
      edited: undefined,
      limits: ctx.limits,
      phase: () => undefined,
      note: (said) => {
        ctx.log({ level: 'note', ...said });
      },
      done: (item) => {
        restored.add(item);
        if (item.action === 'failed') ctx.log({ level: 'fault', code: 'NOT_BACK', path: item.path, message: item.remark });
        tell();
      },
      drain: () => undefined,
      moved: (bytes) => {
        moved += bytes;
        tell();
      },
      stopped: ctx.stopped,
    };
  }

  private async look(room: DrillRoom, check: DrillCheck): Promise<DrillResult> {
    if (check.check === 'script') return this.script(room, check);
    return (await room.look(check)) ?? { what: notHere[check.check], found: `not in ${room.words}`, passed: false };
  }

  private async script(room: DrillRoom, { name, minutes }: Extract<DrillCheck, { check: 'script' }>): Promise<DrillResult> {
    const what = `The script ${name} ends well`;
    try {
      const { id } = this.ctx.task;
      await runScript(this.ctx, name, minutes, { LITHODEX_TASK: id, LITHODEX_POINT: this.work.point.taskId, ...room.told() });
      return { what, found: 'it did', passed: true };
    } catch (error) {
      if (!(error instanceof ScriptError)) throw error;
      return { what, found: error.message, passed: false };
    }
  }

  private async remove(room: DrillRoom): Promise<void> {
    try {
      await room.remove();
    } catch (error) {
      this.left = `${room.words}: ${causeOf(error).message}`.slice(0, 1000);
      this.results.push({ what: 'Nothing of it is left behind', found: this.left, passed: false });
      this.ctx.log({ level: 'fault', code: 'LEFT_BEHIND', path: '', message: this.left });
    }
  }

  private objective(): void {
    const { objective } = this.work;
    if (objective === null || this.usableMs === null) return;
    const passed = this.usableMs <= objective * 1000;
    this.results.push({
      what: `Usable within ${formatDuration(objective * 1000)}`,
      found: `after ${formatDuration(this.usableMs)}`,
      passed,
    });
  }

  /** Sends the evidence. */
  async tell(): Promise<void> {
    const { ctx, restored, steps, usableMs, left, words: room } = this;
    const results = this.results.map(({ what, found, passed }) => ({ what: told(what, 500), found: told(found, 1000), passed }));
    for (const { what, found, passed } of results)
      ctx.log({ level: passed ? 'note' : 'fault', code: passed ? 'PASSED' : 'NOT_PASSED', path: '', message: `${what}: ${found}` });
    const { items, bytes } = restored;
    const body = { attempt: ctx.task.attempt, room, steps: [...steps], usableMs, items, bytes, results, left };
    await ctx.api.insist('drillTold', body, ctx.task.id, ctx.stopped);
    ctx.log({ level: 'note', code: 'DRILLED', path: '', message: `${countOf(results.length, 'thing')} looked at in ${room}` });
  }
}

/** A text as the server takes it. */
const told = (text: string, most: number) => text.slice(0, most).toWellFormed();

const roomsOf = ({ overlays }: TaskContext) => path.join(overlays, 'rooms');

/** Removes what drills left on this host that nobody goes on with. */
async function removeAbandoned(ctx: TaskContext): Promise<void> {
  const rooms = roomsOf(ctx);
  const names = fs.existsSync(rooms) ? fs.readdirSync(rooms).filter((name) => name !== ctx.task.id) : [];
  if (!names.length) return;
  const { alive } = await ctx.api.call('aliveTasks', { attempt: ctx.task.attempt, tasks: names.slice(0, 1000) }, ctx.task.id);
  for (const name of names) if (!alive.includes(name)) fs.rmSync(path.join(rooms, name), { recursive: true, force: true });
}

const notHere: Readonly<Record<Exclude<DrillCheck['check'], 'script'>, string>> = {
  file: 'A file is looked at',
  count: 'Files are counted',
  query: 'A database is asked',
  service: 'A service is looked for',
};
