import { countOf, escapePath, formatBytes, formatExact, formatFirst, formatMoment, joinPath, objectNameOf } from '@lithodex/core';
import type { RestoreBody, SystemTest } from '@lithodex/contract';
import { accountsItem, filesItem, type DatabaseDestination, type DatabaseFacts, type DatabasePoint } from '@lithodex/kinds';
import { DateTime } from 'luxon';
import { fromJson } from '../../base/db/json';
import type { Deps } from '../deps';
import { chainTo, type Chain } from '../estate/database-band';
import { fromOfRow, type SystemRow } from '../../records/systems/system-rows';
import type { RestorePlan } from '../../records/runs/planned-restore';
import { rescueOf } from './rescue';
import type { ResolvedPick } from './resolve-picks';
import {
  expectedOf,
  onlyWorkload,
  refuse,
  ruleWords,
  trialWords,
  type Check,
  type LookBody,
  type Looked,
  type RestorePlanner,
} from './restore-planner';

const testMs = 30_000;
const rulesOfTables = { ...ruleWords, leave: 'tables that exist are left', replace: 'tables that exist are replaced' };
/** Throws INVALID for picks that are no databases. */
export function onlyDatabases(picks: readonly ResolvedPick[]): void {
  const isDatabase = (p: ResolvedPick) => p.point.facts !== null && fromJson<{ kind: string }>(p.point.facts).kind === 'database';
  if (!picks.every(isDatabase)) throw refuse('body.picks', 'Only databases go to a database server.');
}

/** The server that databases go to. Throws INVALID where it is not connected, or of another family. */
export async function serverFor(
  deps: Deps,
  { destination }: Pick<RestoreBody, 'destination'>,
  picks: readonly ResolvedPick[],
): Promise<SystemRow> {
  const [first] = picks;
  const own = () => deps.db('workload').where({ id: first!.point.workload_id }).first<{ source_id: number }>('source_id');
  const id = destination.to === 'server' ? destination.systemId : (await own()).source_id;
  const row = await deps.db('source').where({ id, kind: 'database' }).whereNotNull('secret').first<SystemRow | undefined>();
  if (!row) throw refuse('body.destination', 'The database server is not connected here.');
  if (picks.some((p) => fromJson<DatabasePoint>(p.point.facts).family !== familyOf(row)))
    throw refuse('body.destination', `${row.name} is of another family of database servers.`);
  return row;
}

/** What becomes of tables that are there; those put beside get the moment of their point behind their names. */
function destinationOf(
  deps: Deps,
  body: Pick<RestoreBody, 'destination' | 'rule' | 'until'>,
  picks: readonly ResolvedPick[],
): DatabaseDestination {
  if (body.rule === 'replaceIfOlder')
    throw refuse('body.rule', 'Nobody can tell how old a table is: leave it, replace it or put it beside.');
  const newest = body.until?.at ?? Math.max(...picks.map((p) => p.point.moment));
  const suffix = DateTime.fromMillis(newest, { zone: deps.config.zone }).toFormat("'_'MMdd'_'HHmm");
  return { databases: body.destination.to === 'server' ? body.destination.databases : [], exists: body.rule, suffix, until: null };
}

/** Databases and tables as they were found in a point. */
const partsOf = (path: string) => path.split('/').filter(Boolean);
/** What leads to the moment that is wanted, if that is another than the one of the points. Throws INVALID. */
export async function chainOf(
  deps: Deps,
  { until }: Pick<RestoreBody, 'until'>,
  picks: readonly ResolvedPick[],
): Promise<Chain | undefined> {
  if (!until) return undefined;
  const ids = new Set(picks.map((p) => p.point.workload_id));
  if (ids.size > 1) throw refuse('body.until', 'One moment holds for one database server.');
  return chainTo(deps.db, picks[0]!.point.workload_id, until);
}

/** What leads to the moment that is wanted, in words. */
export function chainChecks(deps: Deps, { until }: Pick<RestoreBody, 'until'>, chain: Chain | undefined): Check[] {
  if (!chain || !until) return [];
  const zone = deps.config.zone;
  const { full, log } = chain;
  const words = `The full of ${formatMoment(full.row.moment, zone)} (${formatBytes(full.row.bytes)}) is loaded into a scratch server of the mover`;
  const text = `${words}, then the log is replayed up to ${formatExact(until.at, zone)} (${formatBytes(log.row.bytes)} at most).`;
  return [{ level: 'fine', code: 'CHAIN', text }];
}

/** What is read and where it goes. Of a moment between points, what leads to it is read: the full, and the point of the log as its last pick. */
export function withChain(
  { until }: Pick<RestoreBody, 'until'>,
  picks: readonly ResolvedPick[],
  chain: Chain | undefined,
  to: Extract<RestorePlan['to'], { kind: 'database' }>,
): Pick<RestorePlan, 'picks' | 'to'> {
  const own = picks.map((p) => ({ pointId: chain?.full.row.id ?? p.point.id, path: p.path, to: '', base: '' }));
  if (!chain || !until) return { picks: own, to };
  return {
    picks: [...own, { pointId: chain.log.row.id, path: '', to: '', base: '' }],
    to: { ...to, destination: { ...to.destination, until: { ...until, stretch: chain.stretch } } },
  };
}

/** What stands in the way of bringing databases back, asked of the server now, and where each pick goes in words. */
async function lookAtServer(deps: Deps, body: LookBody, picks: readonly ResolvedPick[]): Promise<Looked> {
  onlyDatabases(picks);
  const row = await serverFor(deps, body, picks);
  const destination = destinationOf(deps, body, picks);
  const from = fromOfRow(deps.secrets, row);
  const test: SystemTest = await deps.movers.ask({ ask: 'systemTest', from }, testMs, deps.movers.bringsBackBy(row.read_by));
  const checks: Check[] = [];
  const say = (level: Check['level'], code: string, text: string) => checks.push({ level, code, text });
  if (!test.ok && test.found === 0) say('stop', 'CONNECTION_FAULTY', test.message);
  const missing = test.needs.filter((n) => n.missing && /restore|put restored|replace/.test(n.neededFor)).map((n) => n.right);
  if (missing.length) say('stop', 'NO_RIGHT', `The account on ${row.name} lacks ${missing.join(', ')}.`);
  else say('fine', 'RIGHTS', `The account on ${row.name} may do all it takes.`);
  const names = new Map(destination.databases.map((d) => [d.from, d.to]));
  const goesTo = (pick: ResolvedPick) => {
    const [folder, ...rest] = partsOf(pick.path);
    if (folder === undefined) return row.name;
    const name = names.get(objectNameOf(folder)) ?? objectNameOf(folder);
    if (rest.length === 0 && besideAsWhole(destination, row)) return `${name}${destination.suffix} on ${row.name}`;
    const table = rest.at(-1)?.replace(/\.sql$/, '');
    const put = destination.exists === 'beside' && rest[0] === 'tables' && table !== undefined ? `${table}${destination.suffix}` : table;
    return put === undefined ? `${name} on ${row.name}` : escapePath(joinPath(`${name} on ${row.name}`, put));
  };
  say(...whatHappens(destination, picks, row));
  const chain = await chainOf(deps, body, picks);
  checks.push(...chainChecks(deps, body, chain));
  if (picks.some((p) => p.path === accountsItem))
    say('stop', 'ONLY_DOWNLOAD', 'Accounts are downloaded and looked at by a person: they are not put back.');
  if (picks.some((p) => p.path === filesItem))
    say(
      'stop',
      'ONLY_DOWNLOAD',
      'The files of the server are what its log leads on from: pick databases, and a second if another is wanted.',
    );
  return { goesTo, checks };
}

const familyOf = (row: SystemRow) => fromJson<DatabaseFacts>(row.address).family;
/** Whether whole databases are put beside those that are there, not their tables beside others. */
const besideAsWhole = ({ exists }: Pick<DatabaseDestination, 'exists'>, row: SystemRow) =>
  exists === 'beside' && familyOf(row) === 'postgresql';

function whatHappens(destination: DatabaseDestination, picks: readonly ResolvedPick[], row: SystemRow): [Check['level'], string, string] {
  const { exists, suffix } = destination;
  const { length } = picks;
  const names = formatFirst(
    picks.map((p) => (p.path === '' ? 'all databases' : objectNameOf(partsOf(p.path).at(-1)!).replace(/\.sql$/, ''))),
    3,
  );
  if (exists === 'leave')
    return ['fine', 'LEFT', `Tables that exist stay as they are; what is missing comes back (${countOf(length, 'pick')}: ${names}).`];
  const whole = picks.some((p) => partsOf(p.path).length <= 1);
  if (whole && besideAsWhole(destination, row))
    return ['fine', 'BESIDE', `Databases that exist stay; the restored ones get names that end in ${suffix}.`];
  if (exists === 'beside') return ['fine', 'BESIDE', `Tables that exist stay; the restored ones get names that end in ${suffix}.`];
  if (whole && familyOf(row) === 'postgresql')
    return [
      'look',
      'REPLACED',
      `Databases that exist are replaced at one instant, once all restored ones are loaded and counted: ${names}. Who works in them is disconnected, and what was written to them since goes with them.`,
    ];
  return [
    'look',
    'REPLACED',
    `Tables that exist are replaced at one instant, once all restored ones are loaded and counted: ${names}. What was written to them since goes with them.`,
  ];
}

/** Databases, back to a server. */
export const databaseRestores: RestorePlanner = {
  look: lookAtServer,

  async tasks(deps, body, picks) {
    const chain = await chainOf(deps, body, picks);
    const { items, bytes } = expectedOf(picks);
    const work: RestorePlan = {
      type: 'restore',
      ...withChain(body, picks, chain, {
        kind: 'database',
        sourceId: (await serverFor(deps, body, picks)).id,
        destination: destinationOf(deps, body, picks),
      }),
      trial: body.trial,
      readFrom: body.readFrom,
      expected: { items, bytes: bytes + (chain ? chain.full.row.bytes + chain.log.row.bytes : 0) },
    };
    return [{ workloadId: onlyWorkload(picks), work }];
  },

  /** Databases that are replaced on the server they were taken of. */
  async rescue(deps, body, picks) {
    if (body.rule !== 'replace' || body.trial) return null;
    const rescue = await rescueOf(deps, picks);
    return rescue?.sourceId === (await serverFor(deps, body, picks)).id ? rescue : null;
  },

  rules(body) {
    const where = body.destination.to === 'server' ? 'to a database server' : 'to the server they were taken of';
    return `${trialWords(body)}${where}; ${rulesOfTables[body.rule]}`;
  },
};
