import { escapePath, formatBytes, joinPath } from '@lithodex/core';
import type { RestoreBody } from '@lithodex/contract';
import { DateTime } from 'luxon';
import type { Deps } from '../deps';
import { shareRef, toShare, type ShareRow } from '../../records/systems/share-rows';
import type { ResolvedPick } from './resolve-picks';
import { countChecks, expectedOf, onlyWorkload, refuse, trialWords, type Check, type RestorePlanner } from './restore-planner';

type Place = Extract<RestoreBody['destination'], { to: 'share' }>;
const testMs = 60_000;

function placeOf({ destination }: Pick<RestoreBody, 'destination'>): Place {
  if (destination.to !== 'share') throw refuse('body.destination', 'It does not go to a share.');
  return destination;
}

async function shareOf(deps: Deps, { shareId }: Place): Promise<ShareRow> {
  const row = await deps.db('share').where({ id: shareId }).first<ShareRow | undefined>();
  if (!row) throw refuse('body.destination', 'The share is not kept here any more.');
  return row;
}

/** A folder that is not there yet, named by the second. */
function folderOf(deps: Deps, { folder }: Place): string {
  const own = DateTime.fromMillis(deps.clock.now(), { zone: deps.config.zone }).toFormat("'returned' yyyy-MM-dd HHmmss");
  return joinPath(folder, own);
}

/** Files of any kind of workload, into a new folder of a share. */
export const shareRestores: RestorePlanner = {
  async look(deps, body, picks) {
    const place = placeOf(body);
    const row = await shareOf(deps, place);
    const answer = await deps.movers.ask({ ask: 'shareTest', share: shareRef(deps.secrets, row) }, testMs);
    const { account } = toShare(row);
    const checks: Check[] = [
      ...countChecks(picks),
      answer.ok
        ? { level: 'fine', code: 'RIGHTS', text: `${row.name} lets ${account || 'us'} in and lets us write.` }
        : { level: 'stop', code: 'SHARE', text: answer.message },
      {
        level: 'fine',
        code: 'SHARE_KEEPS',
        text: `${formatBytes(expectedOf(picks).bytes)} go into a folder of their own and are read again. A share keeps contents, names and over SMB times; owners, rights, links and attributes are left out.`,
      },
    ];
    const where = joinPath(place.folder, 'returned …');
    return { goesTo: (p: ResolvedPick) => `${row.name}: ${escapePath(joinPath(Buffer.from(where).toString('latin1'), p.to))}`, checks };
  },

  async tasks(deps, body, picks) {
    const place = placeOf(body);
    const { id } = await shareOf(deps, place);
    return [
      {
        workloadId: onlyWorkload(picks),
        work: {
          type: 'restore' as const,
          picks: picks.map((p) => ({ pointId: p.point.id, path: p.path, to: p.to, base: '' })),
          readFrom: body.readFrom,
          to: { kind: 'files' as const, rule: 'leave' as const, stamp: '', share: { shareId: id, folder: folderOf(deps, place) } },
          trial: body.trial,
          expected: expectedOf(picks),
        },
      },
    ];
  },

  rules: (body) => `${trialWords(body)}to a new folder of a share`,
};
