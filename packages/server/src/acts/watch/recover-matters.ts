import type { FoundMatter, Progress, RunState } from '@lithodex/contract';
import { formatBytes } from '@lithodex/core';
import { fromJsonOrNull } from '../../base/db/json';
import type { Deps } from '../deps';

/** Part of the room for what a machine writes from which on somebody has to act. */
const fills = 0.8;
const bad: readonly RunState[] = ['failed', 'partsMissing', 'stopped', 'cutOff'];

/** What is wrong with restores that nobody waits for: those that are repeated, and machines that run from the store. */
export async function recoverMatters(deps: Deps): Promise<FoundMatter[]> {
  return [...(await standing(deps)), ...(await fromStore(deps))];
}

async function standing({ db, clock }: Deps): Promise<FoundMatter[]> {
  type Row = { no: number; name: string; trouble: string };
  const rows = await db('standing_restore').where({ ended: false }).select<Row[]>('no', 'name', 'trouble');
  const found: FoundMatter[] = [];
  for (const { no, name, trouble } of rows) {
    const last = await db('run')
      .where({ standing_no: no })
      .orderBy('id', 'desc')
      .first<{ id: number; state: RunState; ended_at: number | null } | undefined>('id', 'state', 'ended_at');
    const failed = last && bad.includes(last.state) ? last : undefined;
    if (!trouble && !failed) continue;
    found.push({
      id: `standing-${no}`,
      level: 'warning',
      title: trouble ? `${name} could not begin` : `${name} did not bring everything back`,
      text: trouble || 'What the time before has brought is still there. The run says what was missing.',
      since: failed?.ended_at ?? clock.now(),
      action:
        failed && !trouble
          ? { label: 'See the run', link: `/runs/${failed.id}`, query: {} }
          : { label: 'See it', link: '/recover/standing', query: {} },
      second: null,
    });
  }
  return found;
}

async function fromStore({ db, clock }: Deps): Promise<FoundMatter[]> {
  const rows = await db('task as t')
    .join('workload as w', 'w.id', 't.workload_id')
    .where({ 't.type': 'runMachine' })
    .whereIn('t.state', ['waiting', 'running'])
    .select<{ id: string; name: string; progress: unknown }[]>('t.id', 'w.name', 't.progress');
  return rows.flatMap(({ id, name, progress }): FoundMatter[] => {
    const machine = fromJsonOrNull<Progress>(progress)?.machine;
    if (!machine) return [];
    const { used, most } = machine.overlay;
    const full = used >= most * fills;
    if (!full && !machine.problem) return [];
    const text = full
      ? `${formatBytes(used)} of the ${formatBytes(most)} for what it writes are used. When that is full it is refused to write: copy it to a storage, or drop it.`
      : machine.problem;
    return [
      {
        id: `from-store-${id}`,
        level: full ? 'fault' : 'warning',
        title: full
          ? `${name}, which runs from the store, has little room left`
          : `${name}, which runs from the store, can't go on as wished`,
        text,
        since: clock.now(),
        action: { label: 'See it', link: '/recover/running', query: {} },
        second: null,
      },
    ];
  });
}
