import { escapePath, formatMoment, joinPath } from '@lithodex/core';
import type { RestoreBody } from '@lithodex/contract';
import type { ShareDestination } from '@lithodex/kinds';
import { DateTime } from 'luxon';
import { shareOfRow, type SystemRow } from '../../records/systems/system-rows';
import type { Deps } from '../deps';
import { rescueOf } from './rescue';
import type { ResolvedPick } from './resolve-picks';
import {
  countChecks,
  onlyWorkload,
  refuse,
  ruleWords,
  trialWords,
  type Check,
  type LookBody,
  type Looked,
  type RestorePlanner,
  mayReplace,
  taskTo,
} from './restore-planner';

const askMs = 60_000;

interface Place {
  readonly system: SystemRow;
  /** The share the points are of. */
  readonly from: string;
  readonly destination: ShareDestination;
}

/** Which share files go to, and where on it. Throws INVALID where that can't be. */
async function placeOf(deps: Deps, body: Pick<RestoreBody, 'destination' | 'rule'>, picks: readonly ResolvedPick[]): Promise<Place> {
  const { destination: to } = body;
  const workloadId = onlyWorkload(picks);
  if (workloadId === null) throw refuse('body.picks', 'Files of one share at a time.');
  if (picks.some((p) => p.workloadKind !== 'share'))
    throw refuse('body.picks', 'Only files of shares go to shares of file servers that are protected.');
  const own = await deps.db('workload').where({ id: workloadId }).first<{ source_id: number; outer_id: string }>('source_id', 'outer_id');
  const systemId = to.to === 'fileServer' ? to.systemId : own.source_id;
  const system = await deps.db('source').where({ id: systemId, kind: 'share' }).whereNotNull('secret').first<SystemRow | undefined>();
  if (!system) throw refuse('body.destination', 'The file server is not connected here.');
  const newest = Math.max(...picks.map((p) => p.point.moment));
  const stamp = DateTime.fromMillis(newest, { zone: deps.config.zone }).toFormat('yyyy-MM-dd HHmm');
  const { share, folder } = to.to === 'fileServer' ? to : { share: own.outer_id, folder: '' };
  return { system, from: own.outer_id, destination: { share, folder, exists: body.rule, stamp } };
}

async function look(deps: Deps, body: LookBody, picks: readonly ResolvedPick[]): Promise<Looked> {
  const { system, destination, from } = await placeOf(deps, body, picks);
  const { server } = shareOfRow(deps.secrets, system, '');
  const { share, folder, exists } = destination;
  const now = await deps.movers.ask({ ask: 'shareNow', server, share }, askMs, deps.movers.bringsBackBy(system.read_by));
  const moment = Math.max(...picks.map((p) => p.point.moment));
  const checks: Check[] = [
    ...countChecks(picks),
    now.trouble
      ? { level: 'stop', code: 'SHARE_SHUT', text: now.trouble }
      : {
          level: 'fine',
          code: 'RIGHTS',
          text: `${system.name} lets us into ${share}. Whether it lets us write is seen at the first file.`,
        },
    exists === 'replace' || exists === 'replaceIfOlder'
      ? {
          level: 'look',
          code: 'REPLACED',
          text: 'What is replaced is gone there; files that somebody has open stay as they are, and are named.',
        }
      : { level: 'fine', code: 'KEPT', text: 'Nothing is replaced or removed.' },
    {
      level: 'fine',
      code: 'AS_OF',
      text: `Files come back as they were at ${formatMoment(moment, deps.config.zone)}, with their times (to the second) and attributes, and are read again. Who may do what with them comes back where the point knows it.`,
    },
  ];
  const where = share === from && folder === '' ? 'where it was' : share;
  const goesTo = ({ path }: ResolvedPick) =>
    `${escapePath(joinPath(Buffer.from(folder).toString('latin1'), path)) || 'everything'}, ${where}`;
  return { goesTo, checks };
}

/** Files of shares, back to where they were or to another share or folder of a file server. */
export const fileServerRestores: RestorePlanner = {
  look,

  async tasks(deps, body, picks) {
    const { system, destination } = await placeOf(deps, body, picks);
    return [taskTo(body, picks, { kind: 'share', sourceId: system.id, destination })];
  },

  async rescue(deps, body, picks) {
    if (!mayReplace(body)) return null;
    const { system, destination, from } = await placeOf(deps, body, picks);
    const rescue = await rescueOf(deps, picks);
    return rescue?.sourceId === system.id && destination.share === from && destination.folder === '' ? rescue : null;
  },

  rules(body) {
    const { destination: to } = body;
    const where = to.to === 'fileServer' ? `to the share ${to.share}${to.folder ? `, into ${to.folder}` : ''}` : 'to where they were';
    return `${trialWords(body)}${where}; ${ruleWords[body.rule]}`;
  },
};
