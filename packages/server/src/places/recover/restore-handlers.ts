import { appendAudit } from '../../base/audit/trail';
import { fromJson } from '../../base/db/json';
import { inTransaction } from '../../base/db/open';
import type { Deps } from '../../acts/deps';
import { ApiError, found } from '../../base/errors';
import type { Handlers } from '../../base/http/bind-routes';
import type { DownloadPlan } from '../../records/runs/planned-restore';
import { planRestore } from '../../acts/recover/restore-plan';
import { startRestore } from '../../acts/recover/start-restore';

type RestoreHandlers = Pick<Handlers, 'planRestore' | 'startRestore' | 'download'>;

/** What a download is called: as the one item it is, or as the run. */
function fileNameOf(format: DownloadPlan['format'], item: string, run: string): string {
  switch (format) {
    case 'file':
      return item;
    case 'qcow2':
      return `${item.replace(/\.raw$/, '')}.qcow2`;
    case 'maildir':
      return `${run}.tar`;
    default:
      return `${run}.${format}`;
  }
}

export function restoreHandlers(deps: Deps): RestoreHandlers {
  const { db, clock } = deps;
  return {
    planRestore: async ({ body, actor }) => (await planRestore(deps, body, actor)).plan,

    startRestore: async ({ body, actor }) => ({ runId: await startRestore(deps, body, actor) }),

    async download({ params, actor, res }) {
      const run = found(
        await db('run').where({ id: params.id, kind: 'download' }).first<{ id: number; person: string; name: string } | undefined>(),
      );
      if (run.person !== actor.name) throw new ApiError('NOT_ALLOWED', undefined, 'Only the person who asked for a download may fetch it.');
      const task = found(await db('task').where({ run_id: run.id }).first<{ id: string; state: string; work: unknown } | undefined>());
      if (task.state !== 'waiting' && task.state !== 'running')
        throw new ApiError('NOT_NOW', undefined, 'The download has ended. Prepare it again.');
      const work = fromJson<DownloadPlan>(task.work);
      await inTransaction(db, (trx) =>
        appendAudit(trx, clock.now(), { actor: actor.name, action: 'download.fetch', object: `run ${run.id}` }),
      );
      const one = Buffer.from(work.picks[0]!.to, 'latin1').toString();
      res.attachment(fileNameOf(work.format, one, run.name).replace(/[\r\n"/\\]/g, '_'));
      res.type('application/octet-stream').setHeader('cache-control', 'no-store');
      res.setHeader('content-encoding', 'identity');
      await new Promise<void>((resolve) => {
        const off = deps.calls.onEnd(actor.key, () => res.destroy());
        res.on('close', () => {
          off();
          resolve();
        });
        deps.downloads.offer(task.id, res);
      });
    },
  };
}
