import { setTimeout } from 'node:timers/promises';
import type { BackupWork, NextPoint } from '@lithodex/contract';
import { countOf, formatBytes } from '@lithodex/core';
import { connectorOf, SourceError } from '@lithodex/connectors';
import { EngineError, type Root } from '@lithodex/engine';
import type { From } from '@lithodex/kinds';
import { noCounts, type TaskContext, type TaskResult } from './task-context';

/** A point that is stored and visible; `next` is to be taken after it, where a log is followed. */
export interface StoredPoint {
  readonly result: TaskResult;
  readonly root: Root;
  readonly next: NextPoint | null;
}

/** Between two points at least: a little longer where little is new, so that a quiet server does not fill its target with small objects; and a server is left in peace half of the time. */
const restMs = 1000;
const quietRestMs = 2500;
const littleBytes = 64 << 10;
/** What another mover reads is not looked at beforehand: it rests longer after a point that brought nothing. */
const farQuietRestMs = 5000;
const longestRestMs = 5000;
/** A quiet log gets a point this often, so that it is known to be quiet; and one right after what was last, as the second that it was in has to be over. */
const quietMs = 10_000;
const overMs = 2500;

/** Takes points of a log one after another, a second or so apart while there is something new, until the server says that it is enough. */
export async function followLog(
  ctx: TaskContext,
  work: BackupWork,
  store: (ctx: TaskContext, work: BackupWork) => Promise<StoredPoint>,
): Promise<TaskResult> {
  const counts = { ...noCounts };
  let bytes = 0;
  let points = 0;
  // how far the whole is nobody knows: what is read of a point at a time adds up
  const progress: TaskContext['progress'] = (p) => {
    ctx.progress({ ...p, phase: 'following', read: counts.read + p.read, expectedItems: 0, expectedBytes: 0 });
  };
  let told: TaskContext = { ...ctx, progress };
  for (let asked: BackupWork | undefined = work; asked;) {
    const began = Date.now();
    const { result, root, next }: StoredPoint = await store(told, asked);
    points++;
    bytes += result.bytes;
    counts.read += result.counts.read;
    counts.stored += result.counts.stored;
    counts.warnings += result.counts.warnings;
    counts.missing += result.counts.missing;
    const { items, files, bytes: whole } = result.counts;
    Object.assign(counts, { items, files, bytes: whole });
    // what is said of every point is said once
    told = { ...told, log: (line) => (line.level === 'note' ? undefined : ctx.log(line)), phase: () => undefined };
    if (points === 1) ctx.phase('following');
    asked = next ? { ...work, ...next } : undefined;
    const { read } = root.totals;
    const least = read === 0 && work.from.kind === 'afar' ? farQuietRestMs : read < littleBytes ? quietRestMs : restMs;
    if (asked) await untilNew(ctx, work, root, Math.min(longestRestMs, Math.max(least, Date.now() - began)));
  }
  const message = `followed: ${countOf(points, 'point')} one after another, ${formatBytes(counts.read)} read, ${formatBytes(counts.stored)} written`;
  ctx.log({ level: 'note', code: 'FOLLOWED', path: '', message });
  return { counts, bytes };
}

/** Whether there is more to take. A server that is away for a moment has nothing new: when it stays away the next point says so. */
async function grew(from: From, root: Root): Promise<boolean> {
  try {
    return (await (await connectorOf(from.kind)).grew?.(from, root)) !== false;
  } catch (error) {
    if (error instanceof SourceError) return false;
    throw error;
  }
}

/** Waits for something new in the log, or until its silence is worth a point. Throws STOPPED, and what the connector does. */
async function untilNew(ctx: TaskContext, { from }: BackupWork, root: Root, restsMs: number): Promise<void> {
  const silentAt = Date.now() + (root.totals.read > 0 ? overMs : quietMs);
  let first = true;
  do {
    // what it rests is counted from the last point; then it looks more often
    await setTimeout(first ? restsMs : restMs);
    first = false;
    if (ctx.stopped()) throw new EngineError('STOPPED');
    if (from.kind === 'afar' || (await grew(from, root))) return;
  } while (Date.now() < silentAt);
}
