import type { AskedItem } from '@lithodex/contract';
import { fromJson } from '../../base/db/json';
import { askingRows, mailOf, receiptOf, type AskingRow } from '../../records/recover/asking-rows';
import type { Deps } from '../deps';
import type { Draft } from '../notices/compose';
import { sendMail } from '../notices/deliver';
import { composeReceipt, composeRefusal } from './asking-words';

/** After these pauses a mail that did not go out is tried again; then no more, ms. */
const pausesMs = [1, 5, 15, 60, 240, 720].map((minutes) => minutes * 60_000);
const mostAtOnce = 20;

async function draftFor(deps: Deps, row: AskingRow): Promise<Draft | undefined> {
  const items = fromJson<AskedItem[]>(row.items);
  if (row.run_id === null) return composeRefusal(row.why, row.decided_by, items);
  const receipt = await receiptOf(deps.db, row.run_id);
  return receipt ? composeReceipt(receipt, items, row.decided_by) : undefined;
}

/** Tells people by mail what became of what they asked for, once it is known. The same mail may arrive twice after a crash, under the same id. */
export async function tellAskers(deps: Deps): Promise<void> {
  const { db, clock, secrets, log } = deps;
  const due = await askingRows(db)
    .where('a.tell_next', '<=', clock.now())
    .where((q) => {
      void q.whereNull('a.run_id').orWhereIn('a.run_id', db('run').whereNotIn('state', ['waiting', 'running']).select('id'));
    })
    .limit(mostAtOnce);
  for (const row of due) {
    const to = mailOf(row.facts);
    let next: number | null = null;
    try {
      const draft = to === '' ? undefined : await draftFor(deps, row);
      if (draft) await sendMail(deps, to, draft, `asking-${row.id}.${secrets.installation}`);
    } catch (error) {
      const pause = pausesMs[row.tell_tries];
      next = pause === undefined ? null : clock.now() + pause;
      log.warn({ err: error, asking: row.id }, 'somebody could not be told what came back');
    }
    await db('asking')
      .where({ id: row.id })
      .update({ tell_next: next, tell_tries: row.tell_tries + 1 });
  }
}
