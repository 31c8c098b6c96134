import type { Deps } from '../../acts/deps';
import { numberAt } from '../../base/http/cursor';
import type { Handlers } from '../../base/http/bind-routes';
import { checkAudit } from '../../base/audit/trail';

type AuditHandlers = Pick<Handlers, 'audit' | 'checkAudit'>;

export function auditHandlers({ db }: Deps): AuditHandlers {
  return {
    async audit({ query }) {
      const before = numberAt(query.cursor, Number.MAX_SAFE_INTEGER);
      const q = db('audit')
        .where('seq', '<', before)
        .orderBy('seq', 'desc')
        .limit(query.limit + 1);
      if (query.q) {
        const like = `%${query.q.replace(/[\\%_]/g, '\\$&')}%`;
        void q.where((w) => {
          void w
            .where('actor', 'like', like)
            .orWhere('action', 'like', like)
            .orWhere('object', 'like', like)
            .orWhere('detail', 'like', like);
        });
      }
      type A = { seq: number; at: number; actor: string; action: string; object: string; detail: string };
      const rows = await q.select<A[]>('seq', 'at', 'actor', 'action', 'object', 'detail');
      const shown = rows.slice(0, query.limit);
      return { rows: shown, next: rows.length > query.limit ? String(shown.at(-1)!.seq) : null, total: null };
    },

    checkAudit: () => checkAudit(db),
  };
}
