import { randomBytes } from 'node:crypto';
import { existsSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import path from 'node:path';
import { setTimeout } from 'node:timers/promises';
import { AttachedAt, type AttachWork } from '@lithodex/contract';
import { connectorOf, ownFolder, ownFoldersOf } from '@lithodex/connectors';
import { formatBytes, formatDuration } from '@lithodex/core';
import { EngineError } from '@lithodex/engine';
import { KindName } from '@lithodex/kinds';
import { z } from 'zod';
import { exportedOf } from '../attach/exported';
import { NbdServer, nbdUser } from '../attach/nbd-server';
import { openPoint } from './open-point';
import { noCounts, type TaskContext, type TaskResult } from './task-context';

const lookMs = 500;
const fileName = 'attached.json';
/** What other threads of the mover are told of it. */
const Kept = AttachedAt.extend({ taskId: z.string() });

/** Shows a disk or a volume of a point to whoever knows the key, which is made here and told to nobody but who asked; until its time is over or somebody stops it. */
export async function runAttach(ctx: TaskContext, work: AttachWork): Promise<TaskResult> {
  ctx.phase('opening');
  const point = await openPoint(ctx.stores, work.point);
  const kind = KindName.safeParse(point.root.content.kind).data;
  const connector = kind && connectorOf(kind);
  if (!connector?.device) throw new EngineError('PATH_MISSING', 'nothing that can be attached');
  const exported = exportedOf(await connector.device(point, work.path));
  // the clock of the server counts, whatever this host believes
  const end = Date.now() + work.until - ctx.task.serverNow;
  const key = randomBytes(32);
  let read = 0;
  const name = work.path
    .split('/')
    .slice(1)
    .join('-')
    .replace(/[^\w.-]/g, '_');
  const server = new NbdServer({ exports: new Map([[name, exported]]), onRead: (bytes) => (read += bytes) }, key);
  const folder = ownFolder('attached');
  try {
    const port = await server.listen(ctx.attachAt);
    const kept = { taskId: ctx.task.id, host: ctx.attachAt, port, name, user: nbdUser, key: key.toString('hex'), size: exported.size };
    writeFileSync(path.join(folder, fileName), JSON.stringify(kept), { mode: 0o600 });
    ctx.phase('attached');
    ctx.log({
      level: 'note',
      code: 'ATTACHED',
      path: work.path,
      message: `attached, read only, for ${formatDuration(end - Date.now())}`,
    });
    while (Date.now() < end && !ctx.stopped()) {
      const progress = { items: server.clients, bytes: read, read, fresh: 0, stored: 0, expectedItems: 0, expectedBytes: 0 };
      ctx.progress({ phase: 'attached', ...progress });
      await setTimeout(Math.min(lookMs, Math.max(1, end - Date.now())));
    }
  } finally {
    server.close();
    rmSync(folder, { recursive: true, force: true });
  }
  const message = `detached: ${formatBytes(read)} were read`;
  ctx.log({ level: 'note', code: 'SUMMARY', path: '', message });
  if (ctx.stopped()) throw new EngineError('STOPPED');
  return { counts: { ...noCounts, items: 1, bytes: read, read }, bytes: read };
}

/** How what a task of this mover has attached is reached; null where it has nothing attached yet, or any more. */
export function attachedBy(taskId: string): AttachedAt | null {
  for (const folder of ownFoldersOf('attached')) {
    const file = path.join(folder, fileName);
    if (!existsSync(file)) continue;
    const kept = Kept.parse(JSON.parse(readFileSync(file, 'utf8')));
    if (kept.taskId === taskId) return kept;
  }
  return null;
}
