import { pathFilter } from '@lithodex/core';
import { topEntry } from '@lithodex/engine';
import type { FilesFrom } from '@lithodex/kinds';
import type { CaptureContext, PointContent } from '../connector';
import { readNames } from './accounts';
import { Capture } from './capture';
import { inWords } from './warning-words';

/** Reads a folder tree; what is as it was in `base` is reused, what should be as it was in `reread` is compared. */
export function takeFiles(ctx: CaptureContext, from: FilesFrom): Promise<PointContent> {
  const { store, base, reread, include, exclude } = ctx;
  const known = base ?? reread;
  const expected = known ? Math.max(65_536, 2 * known.totals.items) : 1_000_000;
  const writing = store.begin(expected, ctx.fresh);
  let warnings = 0;
  return writing.during(async () => {
    const work = new Capture({
      root: from.folder,
      previous: known && topEntry(known),
      rereads: !base,
      filter: pathFilter(include, exclude),
      leftOutByItself: from.targetFolders,
      crossFileSystems: from.crossFileSystems,
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
        ctx.warn(inWords(warning));
      },
      stopped: ctx.stopped,
    });
    const top = await work.run();
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
      leftOut: { include, exclude, byItself: work.leftOut },
      warnings,
      content: { kind: 'files', version: 1, facts: {}, state: {} },
    };
  });
}

function namesOf(file: '/etc/passwd' | '/etc/group'): Record<string, string> {
  return Object.fromEntries([...readNames(file)].map(([id, name]) => [String(id), name]));
}
