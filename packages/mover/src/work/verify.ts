import type { VerifyWork } from '@lithodex/contract';
import { countOf, formatBytes } from '@lithodex/core';
import { affected, verifyAndMend } from '@lithodex/engine';
import { keepReader } from './keep-reader';
import { noCounts, type TaskContext, type TaskResult } from './task-context';

const mostLines = 500;

/** Reads a target again and tells what is not as it was written, with the points and items that need it. */
export async function runVerify(ctx: TaskContext, { target, part, others, expected }: VerifyWork): Promise<TaskResult> {
  ctx.phase('reading');
  const store = await ctx.stores.of(target);
  let [packs, bytes] = [0, 0];
  const began = Date.now();
  const copies = others.map((o) => ({ name: o.name, open: () => ctx.stores.of(o.target) }));
  const report = await verifyAndMend(store, copies, {
    copyTask: ctx.task.id,
    now: () => ctx.task.serverNow + (Date.now() - began),
    expected,
    walk: !part || part.number === 0,
    stopped: ctx.stopped,
    ...(part && { reads: (id) => Number.parseInt(id.slice(0, 8), 16) % part.of === part.number }),
    onPack: (read) => {
      packs++;
      bytes += read;
      const rest = { fresh: 0, stored: 0, expectedItems: 0, expectedBytes: 0 };
      ctx.progress({ phase: 'reading', items: packs, bytes, read: bytes, ...rest });
    },
  });
  if (!part || part.number === 0)
    for (const name of await keepReader(store, { whole: true }))
      ctx.log({ level: 'note', code: 'READER', path: name, message: 'written anew: it was not as this version has it' });
  for (const { object, why, chunks } of report.damages.slice(0, mostLines)) {
    const what = chunks ? `; ${countOf(chunks, 'chunk')} could not be read` : '';
    ctx.log({ level: report.lost ? 'fault' : 'warning', code: 'DAMAGED', path: object, message: `${why}${what}` });
  }
  let items = 0;
  if (report.lost) {
    ctx.phase('looking who needs it');
    for await (const item of affected(store, report.unread, ctx.stopped)) {
      items++;
      const what = { item: 'the item', folder: 'the folder and all below it', point: 'the whole point' }[item.whole];
      if (items <= mostLines)
        ctx.log({ level: 'fault', code: 'LOST', path: item.path, message: `${what} can not be restored from point ${item.taskId}` });
    }
  }
  const looked = `${countOf(report.packs, 'pack')}, ${countOf(report.chunks, 'chunk')}, ${formatBytes(report.bytes)} read`;
  const away = report.away.length ? `; what is on ${report.away.join(', ')} was not, as nobody has loaded it` : '';
  const fetched = [report.fetched && countOf(report.fetched, 'chunk'), report.roots && countOf(report.roots, 'root')]
    .filter(Boolean)
    .join(' and ');
  const healed = fetched ? `healed with ${fetched} from other targets` : 'nothing that a point needs was lost';
  const verdict = !report.damages.length
    ? fetched || 'everything is as it was written'
    : `${countOf(report.damages.length, 'damage')} found; ${report.lost ? `${countOf(items, 'item')} can not be restored` : healed}`;
  ctx.log({
    level: report.lost ? 'fault' : report.damages.length ? 'warning' : 'note',
    code: 'VERIFIED',
    path: '',
    message: `${looked}: ${verdict}${away}`,
  });
  const failed = report.lost ? Math.max(1, items) : 0;
  const counts = { ...noCounts, items: report.packs, bytes: report.bytes, read: report.bytes, warnings: report.damages.length, failed };
  return { counts, bytes: report.bytes };
}
