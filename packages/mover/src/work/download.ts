import { Readable } from 'node:stream';
import yazl from 'yazl';
import type { DownloadWork } from '@lithodex/contract';
import { escapePath } from '@lithodex/core';
import {
  everythingBelow,
  fileContent,
  tenantQuestions,
  tarEnd,
  tarHeader,
  tarPadding,
  type FoundItem,
  type PointStore,
} from '@lithodex/connectors';
import { EngineError, topEntry, type Root, type TreeEntry } from '@lithodex/engine';
import { ovaParts, qcow2Parts } from './image-download';
import { maildirParts } from './maildir-download';
import { OpenedPoints } from './open-point';
import { noCounts, type TaskContext, type TaskResult } from './task-context';

interface Opened extends Pick<FoundItem, 'tree' | 'entry'> {
  readonly store: PointStore;
  readonly root: Root;
  /** Where it lies in its point, and what it is called in the download: byte strings. */
  readonly path: string;
  readonly to: string;
}

/** Streams picked items to the person who waits for them. */
export async function runDownload(ctx: TaskContext, work: DownloadWork): Promise<TaskResult> {
  ctx.phase('sending');
  const counts = { ...noCounts };
  const opened: Opened[] = [];
  const points = new OpenedPoints(ctx.stores);
  for (const { point, path, to } of work.picks) {
    const { store, root } = await points.open(point);
    const { tree, entry } = await points.find(point, path);
    opened.push({ store, root, tree, entry, path, to });
  }
  const seen = (entry: TreeEntry, bytes: number) => {
    counts.items++;
    if (entry.kind === 'file') counts.files++;
    counts.bytes += bytes;
    ctx.progress({
      phase: 'sending',
      items: counts.items,
      bytes: counts.bytes,
      read: counts.bytes,
      fresh: 0,
      stored: 0,
      expectedItems: work.expected.items,
      expectedBytes: work.expected.bytes,
    });
    if (ctx.stopped()) throw new EngineError('STOPPED');
  };
  const skipped = (path: string, why: string) => {
    counts.warnings++;
    ctx.log({ level: 'warning', code: 'SKIPPED', path, message: why });
  };
  const stream = work.format === 'zip' ? zipStream(opened, seen, skipped) : Readable.from(partsOf(work.format, opened, seen, skipped));
  await ctx.api.stream('stream', ctx.task.id, stream);
  return { counts, bytes: counts.bytes };
}

type Seen = (entry: TreeEntry, bytes: number) => void;
type Skipped = (path: string, why: string) => void;
function partsOf(
  format: Exclude<DownloadWork['format'], 'zip'>,
  opened: readonly Opened[],
  seen: Seen,
  skipped: Skipped,
): AsyncGenerator<Uint8Array> {
  const { store, entry, root } = opened[0]!;
  switch (format) {
    case 'tar':
      return tarParts(opened, seen, skipped);
    case 'file':
      return fileParts(opened[0]!, seen);
    case 'mbox':
      return mboxParts(opened, seen, skipped);
    case 'maildir':
      return maildirParts(opened, seen, skipped);
    case 'qcow2':
      return counted(qcow2Parts(store, entry), () => {
        seen(entry, entry.size);
      });
    case 'ova':
      return ovaParts(store, topEntry(root), (disk) => {
        seen(disk, disk.size);
      });
  }
}

async function* counted(parts: AsyncGenerator<Uint8Array>, done: () => void): AsyncGenerator<Uint8Array> {
  yield* parts;
  done();
}

async function* fileParts({ tree, entry }: Opened, seen: Seen): AsyncGenerator<Buffer> {
  yield* fileContent(tree, entry);
  seen(entry, entry.size);
}

/** All messages of what was picked, one after the other. */
async function* mboxParts(opened: readonly Opened[], seen: Seen, skipped: Skipped): AsyncGenerator<Buffer> {
  for (const { tree, entry: top, to } of opened)
    for await (const { path, entry } of everythingBelow(tree, top, to)) {
      if (entry.kind !== 'file') continue;
      const message = entry.unread ? undefined : await (await tenantQuestions()).mboxMessage({ tree, entry });
      if (message) yield message;
      else skipped(path, 'a mailbox in one file holds messages only');
      seen(entry, entry.size);
    }
}

async function* tarParts(opened: readonly Opened[], seen: Seen, skipped: Skipped): AsyncGenerator<Buffer> {
  const linked = new Map<string, string>();
  for (const { tree, root, entry: top, to } of opened) {
    for await (const { path, entry } of everythingBelow(tree, top, to)) {
      if (entry.unread) {
        skipped(path, 'not in this point: it could not be read when the point was taken');
        continue;
      }
      const names = { owner: root.owners[String(entry.uid)] ?? '', group: root.groups[String(entry.gid)] ?? '' };
      const link = entry.hardId && linked.get(`${root.taskId} ${entry.hardId}`);
      const header = tarHeader(path, entry, names, link === '' ? undefined : link);
      if (!header) {
        skipped(path, 'tar can not hold sockets');
        continue;
      }
      yield header;
      if (entry.kind === 'file' && !link) {
        yield* fileContent(tree, entry);
        yield tarPadding(entry.size);
        if (entry.hardId) linked.set(`${root.taskId} ${entry.hardId}`, path);
      }
      seen(entry, entry.size);
    }
  }
  yield tarEnd;
}

function zipStream(opened: readonly Opened[], seen: Seen, skipped: Skipped): Readable {
  const zip = new yazl.ZipFile();
  const output = zip.outputStream as Readable;
  const fill = async () => {
    for (const { tree, entry: top, to } of opened)
      for await (const { path, entry } of everythingBelow(tree, top, to)) {
        const name = escapePath(path);
        const mtime = new Date(Math.max(315_532_800_000, Number(entry.mtimeNs / 1_000_000n)));
        if (entry.kind === 'folder') zip.addEmptyDirectory(name, { mtime, mode: entry.mode | 0o040000 });
        else if (entry.kind !== 'file' || entry.unread) {
          skipped(path, 'a zip archive holds files and folders only');
          continue;
        } else
          await new Promise<void>((resolve, reject) => {
            const content = Readable.from(fileContent(tree, entry));
            content.on('error', reject);
            content.on('close', resolve);
            zip.addReadStream(content, name, { mtime, mode: entry.mode | 0o100000 });
          });
        seen(entry, entry.size);
      }
    zip.end();
  };
  fill().catch((error: unknown) => {
    output.destroy(error as Error);
  });
  return output;
}
