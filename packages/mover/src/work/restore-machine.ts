import type { MachineWork } from '@lithodex/contract';
import { countOf, formatBytes } from '@lithodex/core';
import { MachineRestore, readStoredMachine, settingsItem, type RestoredDisk, type StoredMachine } from '@lithodex/connectors';
import { EngineError, topEntry, type Root, type Store, type TreeEntry } from '@lithodex/engine';
import { platformClient } from './platforms';
import { noCounts, type TaskContext, type TaskResult } from './task-context';

/** The settings of the machine that a point holds. */
export async function storedMachine(store: Store, top: TreeEntry): Promise<StoredMachine> {
  const item = await store.trees.find(top, settingsItem);
  const parts: Buffer[] = [];
  for await (const { names } of store.trees.contentParts(item.content))
    for (let at = 0; at < names.length; at += 32) parts.push(await store.reader.read(names.subarray(at, at + 32)));
  return readStoredMachine(Buffer.concat(parts));
}

const diskWords: Record<RestoredDisk['action'], string> = {
  write: 'written',
  replace: 'written where it differed',
  same: 'was the same already',
};

/** Brings a machine back to a platform. A trial looks whether the platform would take it and writes nothing. */
export async function runMachine(ctx: TaskContext, work: MachineWork): Promise<TaskResult> {
  ctx.phase('preparing');
  const { point } = work;
  const store = await ctx.stores.ofPoint(point, (name) => {
    ctx.log({
      level: 'warning',
      code: 'READ_ELSEWHERE',
      path: '',
      message: `what is missing or damaged on the first target was read from ${name}`,
    });
  });
  const found = await store.root(point.seriesId, point.taskId);
  if (!found) throw new EngineError('OBJECT_MISSING', 'the root of the point');
  const top = topEntry(found.root);
  const stored = await storedMachine(store, top);
  const client = platformClient(work.platform);
  if (work.trial) {
    const { rights } = await client.session();
    const message = `the platform lets us in with ${countOf(rights.length, 'right')}; ${stored.name} was not touched`;
    ctx.log({ level: 'note', code: 'TRIAL', path: '', message });
    return { counts: { ...noCounts, items: work.expected.items }, bytes: 0 };
  }
  const counts = { ...noCounts };
  let moved = 0;
  let phase = 'writing';
  const restored: RestoredDisk[] = [];
  await new MachineRestore({
    client,
    stored,
    top,
    changeIds: changeIdsOf(found.root),
    trees: store.trees,
    readChunk: (name) => store.reader.read(name),
    nameKey: store.keys.nameKey,
    files: work.files ? new Set(work.files) : undefined,
    destination: work.destination,
    taskId: ctx.task.id,
    onMachine: (machine, made) => {
      const message = made ? `${machine.name} was made on ${machine.host}` : `${machine.name} on ${machine.host} is written over`;
      ctx.log({ level: 'note', code: made ? 'MACHINE_MADE' : 'MACHINE_HELD', path: '', message });
    },
    onDisk: (disk) => {
      restored.push(disk);
      counts.items++;
      counts.files++;
      counts.bytes += disk.written;
      ctx.log({ level: 'note', code: 'DISK', path: disk.file, message: `${diskWords[disk.action]}: ${formatBytes(disk.written)} written` });
    },
    onBytes: (bytes) => {
      moved += bytes;
      const { items: expectedItems, bytes: expectedBytes } = work.expected;
      ctx.progress({ phase, items: counts.items, bytes: moved, read: moved, fresh: 0, stored: 0, expectedItems, expectedBytes });
    },
    phase: (name) => {
      phase = name;
      ctx.phase(name);
    },
    stopped: ctx.stopped,
  }).run();
  await report(ctx, restored);
  ctx.log({
    level: 'note',
    code: 'SUMMARY',
    path: '',
    message: `${countOf(counts.items, 'disk')} done, what was written was read again and compared`,
  });
  return { counts: { ...counts, read: moved }, bytes: moved };
}

const changeIdsOf = ({ machine }: Root) => machine?.changeIds ?? {};

async function report(ctx: TaskContext, disks: readonly RestoredDisk[]): Promise<void> {
  const items = disks.map((d) => ({ path: d.file, action: d.action, kind: 'file', bytes: d.written, remark: '' }));
  await ctx.api.insist('sendRestored', { attempt: ctx.task.attempt, seq: 0, items }, ctx.task.id, ctx.stopped);
}
