import { pathBelow, pathFilter } from '@lithodex/core';
import { topEntry } from '@lithodex/engine';
import type { FilesFrom } from '@lithodex/kinds';
import type { CaptureContext, PointContent } from '../connector';
import { readNames } from './accounts';
import { Capture } from './capture';
import { inWords } from './warning-words';
import { notReadyWords, systemOf, wholeServer } from '../system/take-system';

/** What could not be read is remembered as far as it may matter whether a server can be rebuilt. */
const mostMissing = 10_000;

/** Reads a folder tree; what is as it was in `base` is reused, what should be as it was in `reread` is compared. */
export async function takeFiles(ctx: CaptureContext, from: FilesFrom): Promise<PointContent> {
  const { store, base, reread, include, exclude } = ctx;
  const server = from.wholeServer ? await wholeServer(from.folder, ctx.limits) : undefined;
  const missing: string[] = [];
  const filter = pathFilter(include, exclude);
  const known = base ?? reread;
  const expected = known ? Math.max(65_536, 2 * known.totals.items) : 1_000_000;
  const writing = store.begin(expected, ctx.fresh);
  let warnings = 0;
  return writing.during(async () => {
    const work = new Capture({
      root: from.folder,
      previous: known && topEntry(known),
      rereads: !base,
      filter,
      leftOutByItself: [...from.targetFolders, ...(server?.noPart ?? [])],
      crossFileSystems: from.crossFileSystems || from.wholeServer,
      readAs: from.readAs,
      limits: ctx.limits,
      trees: store.trees,
      pool: writing.pool,
      put: writing.put,
      drain: async () => {
        await writing.drain();
        ctx.progress(work.progress, writing.packed);
      },
      onWarning: (warning) => {
        warnings++;
        if (warning.code === 'UNREADABLE' && missing.length < mostMissing) missing.push(warning.path);
        ctx.warn(inWords(warning));
      },
      stopped: ctx.stopped,
    });
    const top = await work.run();
    const told = server && systemOf(from, server, filter, missing, ctx.limits);
    const lacks = told ? notReadyWords(told) : '';
    if (lacks) {
      warnings++;
      ctx.warn({ code: 'SYSTEM_PARTS', path: '', message: lacks, missing: true });
    }
    const counts = await writing.finish();
    ctx.progress(work.progress, writing.packed);
    return {
      top,
      totals: {
        items: top.folder?.items ?? 0,
        files: work.progress.files,
        bytes: top.folder?.bytes ?? 0,
        read: work.progress.read,
        ...counts,
      },
      owners: namesOf('/etc/passwd'),
      groups: namesOf('/etc/group'),
      leftOut: { include, exclude, byItself: work.leftOut.filter((path) => !server?.noPart.includes(pathBelow(from.folder, path))) },
      warnings,
      content: { kind: 'files', version: 1, facts: told ?? {}, state: {} },
    };
  });
}

function namesOf(file: '/etc/passwd' | '/etc/group'): Record<string, string> {
  return Object.fromEntries([...readNames(file)].map(([id, name]) => [String(id), name]));
}
