import { median } from '@lithodex/core';
import type { Deps } from '../deps';
import type { RuleId } from '../runs/queue';

const lookBackMs = 15 * 86_400_000;
/** Of so many newest runs the median is taken. */
const newest = 7;
/** Where nothing has run yet. */
const guessMs = 5 * 60_000;

type Kind = 'backup' | 'copy';
interface Took {
  readonly type: Kind;
  readonly workload_id: number;
  readonly policy_id: number | null;
  readonly rule_no: number;
  readonly ms: number;
}

/** How long tasks take, from the newest that ended well before an instant. */
export class Durations {
  private readonly known = new Map<string, number>();

  private constructor(rows: readonly Took[]) {
    const lists = new Map<string, number[]>();
    for (const { type, workload_id, policy_id, rule_no, ms } of rows)
      for (const key of [type, `${type} ${workload_id}`, `${type} ${workload_id} ${policy_id}/${rule_no}`]) {
        const list = lists.get(key) ?? [];
        lists.set(key, list);
        if (list.length < newest || key === type) list.push(ms);
      }
    for (const [key, list] of lists) this.known.set(key, median(list));
  }

  /** From what ended before `at` (ms). */
  static async before(deps: Deps, at: number): Promise<Durations> {
    const rows = await deps
      .db('task as t')
      .join('run as r', 'r.id', 't.run_id')
      .whereIn('t.type', ['backup', 'copy'])
      .whereIn('t.state', ['done', 'remarks', 'partsMissing', 'held'])
      .where('t.ended_at', '<', at)
      .where('t.queued_at', '>', at - lookBackMs)
      .orderBy('t.ended_at', 'desc')
      .select<Took[]>('t.type', 't.workload_id', 'r.policy_id', 'r.rule_no', deps.db.raw('t.ended_at - t.started_at AS ms'));
    return new Durations(rows);
  }

  /** The usual time of a task in ms, and whether it is guessed from others. undefined for copies where none was ever made. */
  of(type: Kind, workloadId: number, by: RuleId | null): { readonly ms: number; readonly guessed: boolean } | undefined {
    const own = (by && this.known.get(`${type} ${workloadId} ${by.policyId}/${by.ruleNo}`)) ?? this.known.get(`${type} ${workloadId}`);
    if (own !== undefined) return { ms: own, guessed: false };
    const all = this.known.get(type);
    if (all !== undefined) return { ms: all, guessed: true };
    return type === 'copy' ? undefined : { ms: guessMs, guessed: true };
  }
}
