import type { CopyWork } from '@lithodex/contract';
import { countOf, formatBytes } from '@lithodex/core';
import { copyPoint } from '@lithodex/engine';
import { noCounts, type TaskContext, type TaskResult } from './task-context';

/** Copies points to another target, each whole before the next. */
export async function runCopy(ctx: TaskContext, work: CopyWork): Promise<TaskResult> {
  ctx.phase('copying');
  const counts = { ...noCounts };
  let alike = work.alike ?? undefined;
  const began = Date.now();
  for (const point of work.points) {
    const from = await ctx.stores.ofPoint(point, (name) => {
      ctx.log({ level: 'warning', code: 'READ_ELSEWHERE', path: '', message: `a part that is damaged was read from ${name}` });
    });
    const to = await ctx.stores.of(work.to);
    const [items, moved, stored] = [counts.items, counts.read, counts.stored];
    const copied = await copyPoint(from, to, {
      seriesId: point.seriesId,
      taskId: point.taskId,
      copyTask: ctx.task.id,
      alike,
      lockedUntil: point.lockedUntil,
      now: () => ctx.task.serverNow + (Date.now() - began),
      stopped: ctx.stopped,
      onProgress: (done) => {
        counts.read = moved + done.moved;
        const rest = { fresh: done.moved, stored: stored + done.stored, expectedItems: 0, expectedBytes: work.expected.bytes };
        ctx.progress({ phase: 'copying', items, bytes: counts.read, read: counts.read, ...rest });
      },
    });
    const body = { attempt: ctx.task.attempt, pointId: point.taskId, stored: copied.stored, lockedUntil: copied.root.lockedUntil ?? null };
    await ctx.api.insist('pointCopied', body, ctx.task.id, ctx.stopped);
    const { totals } = copied.root;
    counts.items += totals.items;
    counts.files += totals.files;
    counts.bytes += totals.bytes;
    counts.read = moved + copied.moved;
    counts.stored = stored + copied.stored;
    alike = point.taskId;
  }
  const message = `${countOf(work.points.length, 'point')} copied: ${formatBytes(counts.bytes)} at full size, ${formatBytes(counts.read)} had to travel, ${formatBytes(counts.stored)} written`;
  ctx.log({ level: 'note', code: 'COPIED', path: '', message });
  return { counts, bytes: counts.read };
}
