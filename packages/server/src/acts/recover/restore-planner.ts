import type { RestoreBody, RestorePlan as RestorePlanShown } from '@lithodex/contract';
import type { ApplicationLook } from '@lithodex/kinds';
import type { Deps } from '../deps';
import { ApiError } from '../../base/errors';
import type { AttachPlan, DownloadPlan, RestorePlan, RunMachinePlan } from '../../records/runs/planned-restore';
import type { ResolvedPick } from './resolve-picks';

export type Check = RestorePlanShown['checks'][number];
/** What is looked at before a reason is given. */
export type LookBody = Omit<RestoreBody, 'reason'>;

/** What a restore would meet where it goes. */
export interface Looked {
  /** Where a pick goes, in words. */
  readonly goesTo: (pick: ResolvedPick) => string;
  readonly checks: readonly Check[];
  readonly existing?: RestorePlanShown['existing'];
  /** Bytes. */
  readonly free?: number | null;
  readonly application?: ApplicationLook;
}

export interface RestoreTask {
  /** Null where one task serves several workloads. */
  readonly workloadId: number | null;
  readonly work: RestorePlan | DownloadPlan | AttachPlan | RunMachinePlan;
}

/** A point that is taken before what it is of is replaced. */
export interface Rescue {
  readonly workloadId: number;
  readonly workload: string;
  readonly targetId: string;
}

/** How restores to one kind of place are planned. All throw INVALID for picks that can't go there. */
export interface RestorePlanner {
  /** Asks what is there now. */
  look(deps: Deps, body: LookBody, picks: readonly ResolvedPick[]): Promise<Looked>;
  tasks(deps: Deps, body: RestoreBody, picks: readonly ResolvedPick[]): Promise<readonly RestoreTask[]>;
  /** What is replaced, where a point of it can be taken first; null where nothing is. */
  rescue?(deps: Deps, body: LookBody, picks: readonly ResolvedPick[]): Promise<Rescue | null>;
  /** What was asked for in words, as runs and the audit trail tell it. */
  rules(body: RestoreBody): string;
}

/** The only workload of the picks; null for several. */
export function onlyWorkload(picks: readonly ResolvedPick[]): number | null {
  const ids = new Set(picks.map((p) => p.point.workload_id));
  return ids.size === 1 ? picks[0]!.point.workload_id : null;
}

export const expectedOf = (picks: readonly ResolvedPick[]): { items: number; bytes: number } => ({
  items: picks.reduce((n, p) => n + p.items, 0),
  bytes: picks.reduce((n, p) => n + p.size, 0),
});

/** The only task of a restore to a system that is connected: what `to` says holds for all picks. */
export const taskTo = (
  { trial, readFrom }: Pick<RestoreBody, 'trial' | 'readFrom'>,
  picks: readonly ResolvedPick[],
  to: RestorePlan['to'],
): RestoreTask => ({
  workloadId: onlyWorkload(picks),
  work: {
    type: 'restore',
    picks: picks.map((p) => ({ pointId: p.point.id, path: p.path, to: '', base: '' })),
    to,
    trial,
    readFrom,
    expected: expectedOf(picks),
  },
});

/** Whether what is there may be gone after it. */
export const mayReplace = ({ rule, trial }: Pick<RestoreBody, 'rule' | 'trial'>): boolean =>
  !trial && (rule === 'replace' || rule === 'replaceIfOlder');

/** Says so where what is inside an item was not counted to its end. */
export function countChecks(picks: readonly ResolvedPick[]): Check[] {
  if (picks.every((p) => p.inside?.whole ?? true)) return [];
  return [
    { level: 'fine', code: 'MORE_INSIDE', text: 'There is more inside the disk than was counted in three seconds: sizes are the least.' },
  ];
}

export const refuse = (at: string, text: string): ApiError => new ApiError('INVALID', [{ at }], `${text} Nothing was changed.`);

export const trialWords = ({ trial }: Pick<RestoreBody, 'trial'>): string => (trial ? 'trial without writing, ' : '');

/** What becomes of what exists, in words. */
export const ruleWords: Readonly<Record<RestoreBody['rule'], string>> = {
  leave: 'what exists is left',
  replace: 'what exists is replaced',
  replaceIfOlder: 'what exists is replaced if it is older',
  beside: 'restored items are put beside what exists',
};

/** What is asked of names of machines beside what their platform says. */
export const machineNames = { reserved: [], plainEnd: false, foldsCase: false } as const;
