import { createHash } from 'node:crypto';
import { Readable } from 'node:stream';
import { countOf, decideConflict } from '@lithodex/core';
import { DateTime } from 'luxon';
import { fileContent } from '../file-content';
import { SourceError } from '../source-error';
import { listFolder, openDrive } from './capture-drive';
import type { DavClient, DavItem } from './dav-client';
import { itemFacts } from './item-facts';
import type { ItemBack, Restoring } from './restoring';

const there = 405;

/** Brings files of a drive or a site back. One that is there gets the stored content as its newest version, where that is wanted. */
export async function restoreDrive(restoring: Restoring, items: readonly ItemBack[]): Promise<void> {
  const { tenant, to, ctx } = restoring;
  const client = openDrive(tenant, to.member, ctx.stopped);
  try {
    for (const own of restoring.byFolder(items)) {
      restoring.goOn();
      await intoFolder(restoring, client, restoring.placeOf(own[0]!.folders), own);
    }
  } finally {
    await client.close();
  }
}

const hrefOf = (client: DavClient, parts: readonly string[]) => client.root + parts.map((p) => `${encodeURIComponent(p)}/`).join('');

async function intoFolder(restoring: Restoring, client: DavClient, parts: readonly string[], items: readonly ItemBack[]): Promise<void> {
  const { trial } = restoring.ctx;
  const href = hrefOf(client, parts);
  let existing = await listFolder(client, href).catch(noneYet);
  if (!existing && !trial) {
    for (let i = 1; i <= parts.length; i++) await client.ask('MKCOL', hrefOf(client, parts.slice(0, i)), { fine: [there] });
    existing = [];
  }
  const known = new Map((existing ?? []).map((i) => [i.name, i]));
  const before = known.size;
  let added = 0;
  for (const item of items) {
    restoring.goOn();
    try {
      const name = nameOf(item);
      const now = known.get(name);
      const action = decideConflict(
        restoring.to.exists,
        { isFolder: false, mtimeNs: item.entry.mtimeNs },
        now && { isFolder: now.folder, mtimeNs: BigInt(now.mtime) * 1_000_000n, identical: await isSame(client, item, now) },
      );
      let remark = '';
      if (action === 'write' || action === 'beside') added++;
      if (action !== 'leave' && action !== 'same') {
        const own = action === 'beside' ? besideName(name, item.entry.mtimeNs, known) : name;
        if (action === 'beside') remark = own;
        if (!trial) await send(restoring, client, item, `${href}${encodeURIComponent(own)}`, action === 'replace' ? now : undefined);
      }
      await restoring.done(item.path, item.entry, action, remark);
    } catch (error) {
      await restoring.failed(item.path, item.entry, error);
    }
  }
  const where = parts.join('/') || 'the top folder';
  if (trial) restoring.note(`${where}: ${countOf(before, 'item')} now, ${before + added} after; nothing was written`);
  else restoring.note(`${where}: ${before} → ${countOf(((await listFolder(client, href).catch(noneYet)) ?? []).length, 'item')}`);
}

const noneYet = (error: unknown): undefined => {
  if (error instanceof SourceError && error.code === 'TENANT_GONE') return undefined;
  throw error;
};

const nameOf = ({ path, entry }: ItemBack): string => {
  const facts = itemFacts(entry);
  const last = facts?.type === 'file' ? facts.href.split('/').filter(Boolean).at(-1) : undefined;
  try {
    return last === undefined ? Buffer.from(path.split('/').at(-1) ?? '', 'latin1').toString('utf8') : decodeURIComponent(last);
  } catch {
    return last ?? '';
  }
};

/** Whether the file is what is stored: by its ETag, else by its bytes. */
async function isSame(client: DavClient, { tree, entry }: ItemBack, now: DavItem): Promise<boolean> {
  if (now.folder || now.size !== entry.size) return false;
  const facts = itemFacts(entry);
  if (facts?.type === 'file' && now.etag !== '' && facts.etag === now.etag && facts.href === now.href) return true;
  const sums = [createHash('sha256'), createHash('sha256')] as const;
  for await (const piece of fileContent(tree, entry)) sums[0].update(piece);
  for await (const piece of (await client.read(now.href)).pieces) sums[1].update(piece);
  return sums[0].digest('hex') === sums[1].digest('hex');
}

function besideName(name: string, mtimeNs: bigint, taken: ReadonlyMap<string, unknown>): string {
  const dot = name.lastIndexOf('.');
  const [stem, ending] = dot > 0 ? [name.slice(0, dot), name.slice(dot)] : [name, ''];
  const when = DateTime.fromMillis(Number(mtimeNs / 1_000_000n), { zone: 'utc' }).toFormat('yyyy-MM-dd HHmm');
  let own = `${stem} (as of ${when})${ending}`;
  for (let n = 2; taken.has(own); n++) own = `${stem} (as of ${when}, ${n})${ending}`;
  return own;
}

async function send(
  restoring: Restoring,
  client: DavClient,
  { tree, entry }: ItemBack,
  href: string,
  replaced: DavItem | undefined,
): Promise<void> {
  const sum = createHash('sha256');
  const content = () =>
    Readable.from(
      (async function* () {
        for await (const piece of fileContent(tree, entry)) {
          sum.update(piece);
          restoring.ctx.moved(piece.length);
          yield piece;
        }
      })(),
      { objectMode: false },
    );
  const condition: Record<string, string> = replaced ? (replaced.etag ? { 'if-match': replaced.etag } : {}) : { 'if-none-match': '*' };
  const headers = { 'content-type': 'application/octet-stream', ...condition };
  const { status } = await client.write(href, content, entry.size, { headers, fine: [412] });
  if (status === 412) throw new SourceError('TENANT_FAILED', 'somebody else changed it meanwhile');
  const back = createHash('sha256');
  for await (const piece of (await client.read(href)).pieces) back.update(piece);
  if (back.digest('hex') !== sum.digest('hex')) throw new SourceError('NOT_AS_STORED');
}
