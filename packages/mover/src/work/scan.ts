import type { PointRef, ScanWork } from '@lithodex/contract';
import { countOf, escapePath, formatBytes } from '@lithodex/core';
import type { OpenPoint } from '@lithodex/connectors';
import { EngineError } from '@lithodex/engine';
import { CommandScanner, ScannerError } from '../scan/command-scanner';
import { PointScanner, type Pending } from '../scan/scan-points';
import { openPoint } from './open-point';
import { noCounts, type TaskContext, type TaskResult } from './task-context';

const mostLines = 200;

/** Looks into points of a series for what rules find and for sensitive data; what did not change is not read again. */
export async function runScan(ctx: TaskContext, work: ScanWork): Promise<TaskResult> {
  ctx.phase('scanning');
  const counts = { ...noCounts };
  let lines = 0;
  let seq = 0;
  let current = '';
  let whole = work.since === null;
  const { attempt, id } = ctx.task;
  const scanner = scannerOf(ctx, work.scanner);
  const scanning = new PointScanner(
    { rules: work.rules, sensitive: work.sensitive, scanner },
    {
      async sensitive(files, gone) {
        const body = { attempt, pointId: current, seq: seq++, whole, files: [...files], gone: [...gone] };
        await ctx.api.insist('sensitiveFound', body, id, ctx.stopped);
      },
      note(path, why) {
        counts.warnings++;
        if (lines++ < mostLines) ctx.log({ level: 'note', code: 'NOT_LOOKED', path, message: why });
      },
      looked(bytes) {
        counts.files++;
        counts.bytes += bytes;
        const { items: expectedItems, bytes: expectedBytes } = work.expected;
        ctx.progress({
          phase: 'scanning',
          items: counts.files,
          bytes: counts.bytes,
          read: counts.bytes,
          fresh: 0,
          stored: 0,
          expectedItems,
          expectedBytes,
        });
      },
      stopped: ctx.stopped,
    },
  );
  try {
    let before: { readonly at: PointRef; readonly point: OpenPoint } | undefined;
    if (work.since) {
      before = { at: work.since.point, point: await openPoint(ctx.stores, work.since.point) };
      scanning.know(work.since.finds);
    }
    for (const at of work.points) {
      const point = await openPoint(ctx.stores, at).catch((error: unknown) => {
        if (error instanceof EngineError && error.code === 'OBJECT_MISSING') return undefined;
        throw error;
      });
      if (!point) {
        ctx.log({ level: 'note', code: 'POINT_GONE', path: '', message: `the point of this name is not there any more: ${at.taskId}` });
        continue;
      }
      // what another store holds is named otherwise
      if (before?.at.target.id !== at.target.id) {
        before = undefined;
        whole = true;
        scanning.begin();
      }
      current = at.taskId;
      seq = 0;
      if (work.sensitive && whole)
        await ctx.api.insist('sensitiveFound', { attempt, pointId: current, seq: seq++, whole, files: [], gone: [] }, id, ctx.stopped);
      const told = await scanning.scan(before?.point, point);
      whole = false;
      for (const { path, within, rule, about } of told.finds.slice(0, mostLines)) {
        const where = within === '' ? '' : ` (in ${within})`;
        ctx.log({ level: 'fault', code: 'FOUND', path, message: `${rule}${where}: ${about}` });
      }
      await ctx.api.insist('pointScanned', { attempt, pointId: current, ...told, sensitive: work.sensitive }, id, ctx.stopped);
      counts.items += told.items;
      before = { at, point };
    }
    const message = `${countOf(work.points.length, 'point')} scanned by ${countOf(work.rules.length, 'file')} of rules${scanner ? ` and ${work.scanner}` : ''}: ${countOf(counts.items, 'content')}, ${formatBytes(counts.bytes)} read`;
    ctx.log({ level: 'note', code: 'SCANNED', path: '', message });
    return { counts: { ...counts, read: counts.bytes }, bytes: counts.bytes };
  } finally {
    scanner?.end();
    await scanning.close();
  }
}

function scannerOf(ctx: TaskContext, name: string): CommandScanner<Pending> | undefined {
  if (name === '') return undefined;
  const by = ctx.scanners[name];
  if (!by) throw new ScannerError(`This mover has no scanner ${escapePath(name)}: whoever runs its host names it in mover.json`);
  return new CommandScanner<Pending>(name, by);
}
