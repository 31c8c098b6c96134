import { escapePath } from '@lithodex/core';
import { fromJson } from '../../base/db/json';
import { found } from '../../base/errors';
import type { Handlers } from '../../base/http/bind-routes';
import type { Deps } from '../../acts/deps';
import { itemsAt, kindOf } from '../../records/catalog/tree';
import type { PointRow } from '../../records/catalog/points';
import type { RestorePlan } from '../../records/runs/planned-restore';
import type { RunRecord } from '../../records/runs/run-rows';
import { visibleRuns, whereTaskVisible } from '../../records/runs/visible-runs';

/** What restores replaced, as it was before. */
export function undoHandlers({ db }: Deps): Pick<Handlers, 'undo'> {
  return {
    async undo({ params, actor }) {
      const run = found(
        await visibleRuns(db, actor)
          .where({ 'r.id': params.id, 'r.kind': 'restore' })
          .whereNotNull('r.after_run')
          .first<RunRecord | undefined>('r.*'),
      );
      const tasks = db('task as t').where({ 't.run_id': run.id, 't.type': 'restore' });
      whereTaskVisible(tasks, actor, run);
      const works = await tasks.select<{ work: unknown }[]>('t.work');
      const point = found(await db('point').where({ run_id: run.after_run, state: 'visible' }).first<PointRow | undefined>());
      const { name } = await db('workload').where({ id: point.workload_id }).first<{ name: string }>('name');
      const paths = [...new Set(works.flatMap(({ work }) => fromJson<RestorePlan>(work).picks.map((p) => p.path)))];
      const wanted = paths.filter((p) => p !== '');
      const items = await itemsAt(db, point.series_no, wanted, point.ordinal);
      const common = { pointId: point.id, workload: name, moment: point.moment };
      return {
        moment: point.moment,
        rows: paths.flatMap((path) => {
          if (path === '') return [{ ...common, path, kind: 'folder', size: point.bytes }];
          const row = items.get(path);
          return row ? [{ ...common, path: escapePath(path), kind: kindOf(row), size: Number(row.size) }] : [];
        }),
      };
    },
  };
}
