import { countOf, formatBytes, joinPath } from '@lithodex/core';
import { EngineError, type TreeEntry } from '@lithodex/engine';
import type { FilesTo } from '@lithodex/kinds';
import type { RestoreContext, RestoreOutcome, RestorePick } from '../connector';
import { everythingBelow } from '../readable-tree';
import { SourceError } from '../source-error';
import { openShare, testShare } from './open-share';
import type { ShareItem } from './share';
import { shareName, sharePath } from './share-names';

/** Kinds that a share holds. */
const holds = ['file', 'folder'];

/** Why an item is left out; '' where it is not. */
function whyLeft(entry: TreeEntry, inside: boolean, twin: boolean): string {
  if (inside) return 'its folder is left out';
  if (entry.unread) return 'not in this point: it could not be read when the point was taken';
  if (!holds.includes(entry.kind)) return 'a share holds files and folders only';
  return twin ? 'another name differs in large and small letters only' : '';
}

/** Writes picked items into a new folder of a share, reads them again and compares. What a share can't hold is left out and told. Throws SourceError. */
export async function restoreToShare(
  ctx: RestoreContext,
  picks: readonly RestorePick[],
  { ref, folder }: NonNullable<FilesTo['share']>,
): Promise<RestoreOutcome> {
  if (ctx.trial) {
    await testShare(ref);
    return { items: picks.length, summary: 'the share lets us in and lets us write; nothing was written' };
  }
  const share = openShare(ref);
  ctx.phase('preparing');
  await share.makeFolder(folder);
  const sums = new Map<string, string>();
  const sizes = new Map<string, number>();
  /** What was written under names that differ in large and small letters only. */
  const other = new Map<string, string>();
  /** A folder that was left out, with all that is in it. */
  let out = '';
  let bytes = 0;
  let items = 0;
  ctx.phase('restoring');
  const coming = async function* (): AsyncGenerator<ShareItem> {
    for (const pick of picks) {
      const { tree, entry: top } = await pick.find();
      for await (const { path, entry } of everythingBelow(tree, top, pick.to)) {
        const to = sharePath(path);
        const twin = other.get(to.toLowerCase());
        const left = whyLeft(entry, out !== '' && path.startsWith(`${out}/`), twin !== undefined && twin !== to);
        if (left) {
          if (entry.kind === 'folder' && !(out && path.startsWith(`${out}/`))) out = path;
          ctx.done({ path, action: 'failed', kind: entry.kind, bytes: 0, remark: left });
          continue;
        }
        other.set(to.toLowerCase(), to);
        items++;
        const name = path.slice(path.lastIndexOf('/') + 1);
        ctx.done({
          path,
          action: 'write',
          kind: entry.kind,
          bytes: entry.size,
          remark: shareName(name) === Buffer.from(name, 'latin1').toString() ? '' : `as ${to}`,
        });
        yield { path: to, entry, tree };
        await ctx.drain();
      }
    }
  };
  await share.write(
    folder,
    coming(),
    (path, sum, size) => {
      sums.set(path, sum);
      sizes.set(path, size);
      bytes += size;
      ctx.moved(size);
    },
    ctx.stopped,
  );
  ctx.phase('reading again');
  const wrong: string[] = [];
  const left = new Set(sums.keys());
  await share.read(
    folder,
    sizes,
    (path, sum) => {
      if (sums.has(path) && sums.get(path) !== sum) wrong.push(path);
      left.delete(path);
    },
    ctx.stopped,
  );
  if (ctx.stopped()) throw new EngineError('STOPPED');
  const [bad] = [...wrong, ...left];
  if (bad !== undefined) throw new SourceError('NOT_AS_STORED', joinPath(folder, bad));
  ctx.note({
    code: 'EVIDENCE',
    path: '',
    message: `${countOf(sums.size, 'file')} of ${formatBytes(bytes)} read again from the share, each as it was stored`,
  });
  return { items, summary: `${countOf(items, 'item')} brought to ${folder}; owners, rights and attributes are not kept on a share` };
}
