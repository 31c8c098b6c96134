import { pathFilter } from '@lithodex/core';
import { Capture, readNames } from '@lithodex/connectors';
import { topEntry, type Root, type Store } from '@lithodex/engine';
import { PointWriting } from './point-writing';
import type { PointContent, PointHooks, PointRequest } from './take-point';

/** Reads a folder tree; what is as it was in `base` is taken over from there, what should be as it was in `reread` is compared. */
export function takeFiles(
  store: Store,
  request: PointRequest,
  base: Root | undefined,
  reread: Root | undefined,
  hooks: PointHooks,
): Promise<PointContent> {
  const known = base ?? reread;
  const expected = known ? Math.max(65_536, 2 * known.totals.items) : 1_000_000;
  const writing = new PointWriting(store, expected, request.fresh ?? false);
  let warnings = 0;
  return writing.during(async () => {
    const work = new Capture({
      root: request.workload.path,
      previous: (base && topEntry(base)) ?? (reread && topEntry(reread)),
      rereads: !base,
      filter: pathFilter(request.include, request.exclude),
      leftOutByItself: request.targetFolders,
      crossFileSystems: request.crossFileSystems,
      readAs: request.readAs,
      limits: hooks.limits,
      trees: store.trees,
      pool: writing.pool,
      put: writing.put,
      drain: async () => {
        await writing.drain();
        hooks.onCapture(work.progress, writing.packed);
      },
      onWarning: (warning) => {
        warnings++;
        hooks.onWarning(warning);
      },
      stopped: hooks.stopped,
    });
    const top = await work.run();
    const counts = await writing.finish();
    hooks.onCapture(work.progress, writing.packed);
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
      leftOut: { include: request.include, exclude: request.exclude, byItself: work.leftOut },
      warnings,
    };
  });
}

function namesOf(file: '/etc/passwd' | '/etc/group'): Record<string, string> {
  return Object.fromEntries([...readNames(file)].map(([id, name]) => [String(id), name]));
}
