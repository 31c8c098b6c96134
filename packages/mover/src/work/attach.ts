import { randomBytes, X509Certificate } from 'node:crypto';
import { existsSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import path from 'node:path';
import { setTimeout } from 'node:timers/promises';
import { AttachedAt, type AttachWork } from '@lithodex/contract';
import { connectorOf, findItem, ownFolder, ownFoldersOf } from '@lithodex/connectors';
import { baseName, formatBytes, formatDuration } from '@lithodex/core';
import { EngineError } from '@lithodex/engine';
import { KindName } from '@lithodex/kinds';
import { z } from 'zod';
import { ownCertificate } from '../attach/certificate';
import { DavServer } from '../attach/dav-server';
import { exportedOf } from '../attach/exported';
import { NbdServer, nbdUser } from '../attach/nbd-server';
import { openPoint } from './open-point';
import { noCounts, type TaskContext, type TaskResult } from './task-context';

const lookMs = 500;
const fileName = 'attached.json';
/** What other threads of the mover are told of it. */
const Kept = z.object({ taskId: z.string() });

/** What is shown, and to whom. */
interface Served {
  readonly clients: number;
  close(): void;
}

/** Shows a disk, a volume or a folder of a point to whoever knows the key, which is made here and told to nobody but who asked; until its time is over or somebody stops it. */
export async function runAttach(ctx: TaskContext, work: AttachWork): Promise<TaskResult> {
  ctx.phase('opening');
  // the clock of the server counts, whatever this host believes
  const end = Date.now() + work.until - ctx.task.serverNow;
  let read = 0;
  const count = (bytes: number) => {
    read += bytes;
  };
  const folder = ownFolder('attached');
  let served: Served | undefined;
  try {
    const { server, at } = await (work.as === 'device' ? asDevice : asDrive)(ctx, work, folder, count);
    served = server;
    writeFileSync(path.join(folder, fileName), JSON.stringify({ ...at, taskId: ctx.task.id }), { mode: 0o600 });
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
    served?.close();
    rmSync(folder, { recursive: true, force: true });
  }
  const message = `detached: ${formatBytes(read)} were read`;
  ctx.log({ level: 'note', code: 'SUMMARY', path: '', message });
  if (ctx.stopped()) throw new EngineError('STOPPED');
  return { counts: { ...noCounts, items: 1, bytes: read, read }, bytes: read };
}

type Shown = (
  ctx: TaskContext,
  work: AttachWork,
  folder: string,
  onRead: (bytes: number) => void,
) => Promise<{ readonly server: Served; readonly at: AttachedAt }>;

const nameOf = (words: string) => words.replace(/[^\w.-]/g, '_');

const asDevice: Shown = async (ctx, work, _folder, onRead) => {
  const point = await openPoint(ctx.stores, work.point);
  const kind = KindName.safeParse(point.root.content.kind).data;
  const connector = kind && (await connectorOf(kind));
  if (!connector?.device) throw new EngineError('PATH_MISSING', 'nothing that can be attached');
  const exported = exportedOf(await connector.device(point, work.path));
  const key = randomBytes(32);
  const name = nameOf(work.path.split('/').slice(1).join('-'));
  const server = new NbdServer({ exports: new Map([[name, exported]]), onRead }, key);
  const port = await server.listen(ctx.attachAt);
  const at = { as: 'device' as const, host: ctx.attachAt, port, name, user: nbdUser, key: key.toString('hex'), size: exported.size };
  return { server, at };
};

const asDrive: Shown = async (ctx, work, folder, onRead) => {
  const { tree, entry } = await findItem(await openPoint(ctx.stores, work.point), work.path);
  if (entry.kind !== 'folder' || entry.unread) throw new EngineError('PATH_MISSING', 'no folder that can be read');
  const made = await ownCertificate(folder, ctx.attachAt);
  const key = randomBytes(24).toString('base64url');
  const server = new DavServer(made, nbdUser, key, { tree, top: entry }, onRead);
  const port = await server.listen(ctx.attachAt);
  const { certificate } = made;
  const fingerprint = new X509Certificate(certificate).fingerprint256;
  const name = nameOf(baseName(work.path)) || 'point';
  return { server, at: { as: 'drive', host: ctx.attachAt, port, name, user: nbdUser, key, certificate, fingerprint } };
};

/** How what a task of this mover has attached is reached; null where it has nothing attached yet, or any more. */
export function attachedBy(taskId: string): AttachedAt | null {
  for (const folder of ownFoldersOf('attached')) {
    const file = path.join(folder, fileName);
    if (!existsSync(file)) continue;
    const kept: unknown = JSON.parse(readFileSync(file, 'utf8'));
    if (Kept.parse(kept).taskId === taskId) return AttachedAt.parse(kept);
  }
  return null;
}
