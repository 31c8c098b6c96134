import { inTransaction } from '../db/open';
import type { Base } from '../base';
import type { Actor } from './access';
import { appendAudit } from '../audit/trail';

/** Notes that somebody had a connection tried, before it is: the address sees the installation, and may see what opens it. */
export async function auditTest(deps: Base, actor: Actor, action: string, object: string, detail: string): Promise<void> {
  await inTransaction(deps.db, (trx) => appendAudit(trx, deps.clock.now(), { actor: actor.name, action, object, detail }));
}
