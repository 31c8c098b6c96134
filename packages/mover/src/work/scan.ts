import type { PointRef, ScanWork, SeenFile, Tells } from '@lithodex/contract';
import { countOf, escapePath, formatBytes } from '@lithodex/core';
import type { OpenPoint } from '@lithodex/connectors';
import { EngineError } from '@lithodex/engine';
import { CommandScanner, ScannerError } from '../scan/command-scanner';
import { PointScanner, type Gone, type Pending } from '../scan/scan-points';
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
  const { attempt, id } = ctx.task;
  const scanner = scannerOf(ctx, work.scanner);
  let tells: Tells = { sums: false, sensitive: false };
  const tellSeen = async (whole: boolean, files: SeenFile[], { items, below }: Gone) => {
    const body = { attempt, pointId: current, seq: seq++, tells, whole, files, gone: items, goneBelow: below };
    await ctx.api.insist('filesSeen', body, id, ctx.stopped);
  };
  const scanning = new PointScanner(
    { rules: work.rules, sensitive: work.sensitive, scanner },
    {
      seen: (files, gone) => tellSeen(false, [...files], gone),
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
    // what was told of the point before
    let told: Tells = work.since?.told ?? { sums: false, sensitive: false };
    let gone = 0;
    if (work.since) {
      before = { at: work.since.point, point: await openPoint(ctx.stores, work.since.point) };
      scanning.know(work.since.finds, work.since.notes);
    }
    for (const at of work.points) {
      const point = await openPoint(ctx.stores, at).catch((error: unknown) => {
        if (error instanceof EngineError && error.code === 'OBJECT_MISSING') return undefined;
        throw error;
      });
      if (!point) {
        gone++;
        continue;
      }
      // what another store holds is named otherwise
      tells = at.tells;
      if (before?.at.target.id !== at.target.id || (tells.sensitive && !told.sensitive) || (tells.sums && !told.sums)) {
        before = undefined;
        scanning.begin();
      }
      current = at.taskId;
      seq = 0;
      if ((tells.sensitive || tells.sums) && !before) await tellSeen(true, [], { items: [], below: [] });
      const scanned = await scanning.scan(before?.point, point, tells);
      told = tells;
      for (const { path, within, rule, about } of scanned.finds.slice(0, mostLines)) {
        const where = within === '' ? '' : ` (in ${within})`;
        ctx.log({ level: 'fault', code: 'FOUND', path, message: `${rule}${where}: ${about}` });
      }
      await ctx.api.insist(
        'pointScanned',
        { attempt, pointId: current, ...scanned, sensitive: work.sensitive, summed: true },
        id,
        ctx.stopped,
      );
      counts.items += scanned.items;
      before = { at, point };
    }
    if (gone) throw new EngineError('OBJECT_MISSING', `the roots of ${countOf(gone, 'point')}`);
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
