import { countOf, formatDuration, objectNameOf } from '@lithodex/core';
import type { DatabaseDestination } from '@lithodex/kinds';
import type { RestoreBody } from '@lithodex/contract';
import type { RestorePlan } from '../../records/runs/planned-restore';
import { chainChecks, chainOf, onlyDatabases, serverFor, withChain } from './database-restores';
import { expectedOf, onlyWorkload, refuse, trialWords, type RestorePlanner } from './restore-planner';

const minuteMs = 60_000;

function minutesOf({ destination }: Pick<RestoreBody, 'destination'>): number {
  if (destination.to !== 'scratch') throw refuse('body.destination', 'It goes to no scratch server.');
  return destination.minutes;
}

/** Databases into a scratch server of the mover that stays up for a while, to be looked into. Nothing else is written. */
export const scratchRestores: RestorePlanner = {
  async look(deps, body, picks) {
    onlyDatabases(picks);
    const minutes = minutesOf(body);
    const row = await serverFor(deps, body, picks);
    const chain = await chainOf(deps, body, picks);
    return {
      goesTo: (pick) => `${pick.path === '' ? 'all of it' : objectNameOf(pick.path.split('/')[0]!)} in a scratch server`,
      checks: [
        {
          level: 'fine',
          code: 'STAYS',
          text: `It stays up on the mover for ${formatDuration(minutes * minuteMs)}, read only, and ends then; ${row.name} is read when you compare, and never written to.`,
        },
        ...chainChecks(deps, body, chain),
      ],
    };
  },

  async tasks(deps, body, picks) {
    const chain = await chainOf(deps, body, picks);
    const row = await serverFor(deps, body, picks);
    const { items, bytes } = expectedOf(picks);
    const destination: DatabaseDestination = { databases: [], exists: 'leave', suffix: '', until: null, stays: minutesOf(body) };
    const work: RestorePlan = {
      type: 'restore',
      ...withChain(body, picks, chain, { kind: 'database', sourceId: row.id, destination }),
      trial: body.trial,
      readFrom: body.readFrom,
      expected: { items, bytes: bytes + (chain ? chain.full.row.bytes + chain.log.row.bytes : 0) },
    };
    return [{ workloadId: onlyWorkload(picks), work }];
  },

  rules(body) {
    return `${trialWords(body)}into a scratch server that stays up for ${countOf(minutesOf(body), 'minute')}`;
  },
};
