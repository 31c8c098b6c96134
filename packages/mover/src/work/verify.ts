import type { VerifyWork } from '@lithodex/contract';
import { countOf, formatBytes } from '@lithodex/core';
import { affected, verify } from '@lithodex/engine';
import { noCounts, type TaskContext, type TaskResult } from './task-context';

const mostLines = 500;

/** Reads a target again and tells what is not as it was written, with the points and items that need it. */
export async function runVerify(ctx: TaskContext, { target, part }: VerifyWork): Promise<TaskResult> {
  ctx.phase('reading');
  const store = await ctx.stores.of(target);
  let [packs, bytes] = [0, 0];
  const report = await verify(store, {
    stopped: ctx.stopped,
    ...(part && { reads: (id) => Number.parseInt(id.slice(0, 8), 16) % part.of === part.number }),
    onPack: (read) => {
      packs++;
      bytes += read;
      const rest = { fresh: 0, stored: 0, expectedItems: 0, expectedBytes: 0 };
      ctx.progress({ phase: 'reading', items: packs, bytes, read: bytes, ...rest });
    },
  });
  for (const { object, why, chunks } of report.damages.slice(0, mostLines))
    ctx.log({ level: 'fault', code: 'DAMAGED', path: object, message: `${why}; ${countOf(chunks, 'chunk')} can not be read` });
  ctx.phase('looking who needs it');
  let items = 0;
  for await (const item of affected(store, report.lost, ctx.stopped)) {
    items++;
    const what = { item: 'the item', folder: 'the folder and all below it', point: 'the whole point' }[item.whole];
    if (items <= mostLines)
      ctx.log({ level: 'fault', code: 'LOST', path: item.path, message: `${what} can not be restored from point ${item.taskId}` });
  }
  const found = report.damages.length + items;
  const looked = `${countOf(report.packs, 'pack')}, ${countOf(report.chunks, 'chunk')}, ${formatBytes(report.bytes)} read`;
  const verdict = found
    ? `${countOf(report.damages.length, 'damage')} found; ${countOf(items, 'item')} can not be restored`
    : 'everything is as it was written';
  ctx.log({ level: found ? 'fault' : 'note', code: 'VERIFIED', path: '', message: `${looked}: ${verdict}` });
  return { counts: { ...noCounts, items: report.packs, bytes: report.bytes, read: report.bytes, failed: found }, bytes: report.bytes };
}
