import type { RestoreWork } from '@lithodex/contract';
import { connectorOf, type RestoredItem } from '@lithodex/connectors';
import { OpenedPoints } from './open-point';
import { throughUnit } from './through-reader';
import { noCounts, type TaskContext, type TaskResult } from './task-context';

const batchSize = 500;

/** Brings picked items back and reports every one of them. */
export async function runRestore(ctx: TaskContext, work: RestoreWork): Promise<TaskResult> {
  const counts = { ...noCounts };
  const report = new ItemReport(ctx, counts);
  let moved = 0;
  let phase = '';
  const tell = () => {
    const { items: expectedItems, bytes: expectedBytes } = work.expected;
    // a large item is on its way long before it is done; what was left as it was is done without being moved
    const bytes = Math.max(counts.bytes, moved);
    ctx.progress({ phase, items: counts.items, bytes, read: moved, fresh: 0, stored: 0, expectedItems, expectedBytes });
  };
  const points = new OpenedPoints(ctx.stores, (name) => {
    const message = `what is missing or damaged on the first target was read from ${name}`;
    ctx.log({ level: 'warning', code: 'READ_ELSEWHERE', path: '', message });
  });
  const { items, summary, made } = await (
    await connectorOf(work.to.kind)
  ).restore(
    {
      taskId: ctx.task.id,
      trial: work.trial,
      edited: work.edited ?? undefined,
      limits: ctx.limits,
      unit: (name, use) => throughUnit(ctx, name, use),
      phase: (name) => {
        phase = name;
        ctx.phase(name);
      },
      note: (said) => {
        ctx.log({ level: 'note', ...said });
      },
      done: (item) => {
        report.add(item);
        tell();
      },
      drain: () => report.flushIfFull(),
      moved: (bytes) => {
        moved += bytes;
        tell();
      },
      stopped: ctx.stopped,
    },
    work.picks.map(({ point, ...pick }) => ({ ...pick, open: () => points.open(point), find: () => points.find(point, pick.path) })),
    work.to,
  );
  await report.flush();
  counts.read = moved;
  ctx.log({ level: 'note', code: 'SUMMARY', path: '', message: summary });
  return { counts: { ...counts, items }, bytes: moved, ...(made && { made }) };
}

/** Gathers restored items into batches for the server. */
class ItemReport {
  private waiting: RestoredItem[] = [];
  private seq = 0;

  constructor(
    private readonly ctx: TaskContext,
    private readonly counts: { items: number; bytes: number; warnings: number; failed: number; files: number },
  ) {}

  add(item: RestoredItem): void {
    this.counts.items++;
    if (item.action === 'failed') this.counts.failed++;
    else this.counts.bytes += item.bytes;
    if (item.action !== 'failed' && item.remark && item.action !== 'beside') this.counts.warnings++;
    if (item.kind !== 'folder') this.counts.files++;
    this.waiting.push(item);
  }

  flushIfFull(): Promise<void> | undefined {
    return this.waiting.length >= batchSize ? this.flush() : undefined;
  }

  async flush(): Promise<void> {
    while (this.waiting.length) {
      const items = this.waiting.splice(0, batchSize * 4);
      await this.ctx.api.insist(
        'sendRestored',
        { attempt: this.ctx.task.attempt, seq: this.seq++, items },
        this.ctx.task.id,
        this.ctx.stopped,
      );
    }
  }
}
