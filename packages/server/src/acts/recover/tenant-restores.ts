import { escapePath, formatBytes, mailPathOf, objectNameOf, parentPath } from '@lithodex/core';
import type { RestoreBody } from '@lithodex/contract';
import { tenantTops, type MemberNow, type TenantDestination, type TenantFacts, type TenantMember } from '@lithodex/kinds';
import { fromJson } from '../../base/db/json';
import { tenantOfRow, type SystemRow } from '../../records/systems/system-rows';
import type { Deps } from '../deps';
import type { ResolvedPick } from './resolve-picks';
import { rescueOf } from './rescue';
import { onlyWorkload, refuse, trialWords, type Check, type LookBody, type Looked, type RestorePlanner, taskTo } from './restore-planner';

const askMs = 45_000;
const rules = {
  leave: 'what is there already is left',
  replace: 'what is there in another version is replaced',
  replaceIfOlder: 'what is there and older is replaced',
  beside: 'what is there in another version stays, and the restored one is put beside it',
} as const;

interface Place {
  readonly system: SystemRow;
  readonly workloadId: number;
  readonly destination: TenantDestination;
}

const memberOf = (facts: unknown): TenantMember => {
  const { type, login, name } = fromJson<TenantFacts>(facts);
  return { type, login, name };
};

/** Whom things go to. Throws INVALID where that can't be. */
async function placeOf(deps: Deps, body: Pick<RestoreBody, 'destination' | 'rule'>, picks: readonly ResolvedPick[]): Promise<Place> {
  const { destination } = body;
  const from = onlyWorkload(picks);
  if (from === null) throw refuse('body.picks', 'Items of one person, site or room at a time.');
  const ofTenant = picks.every((p) => p.workloadKind === 'tenant');
  const ofStore = destination.to === 'member' && picks.every((p) => mailPathOf(p.path, false) !== undefined);
  if (!ofTenant && !ofStore)
    throw refuse('body.picks', 'Only items of the office tenant, and mail out of mail stores, go to its people and sites.');
  const workloadId = destination.to === 'member' ? destination.workloadId : from;
  const row = await deps
    .db('workload')
    .where({ id: workloadId, kind: 'tenant' })
    .first<{ source_id: number; facts: unknown; gone_at: number | null; name: string } | undefined>(
      'source_id',
      'facts',
      'gone_at',
      'name',
    );
  if (!row) throw refuse('body.destination', 'That is nobody of an office tenant.');
  if (row.gone_at !== null) throw refuse('body.destination', `${row.name} is not in the tenant any more: choose somebody else.`);
  const system = await deps.db('source').where({ id: row.source_id }).whereNotNull('secret').first<SystemRow | undefined>();
  if (!system) throw refuse('body.destination', 'The office tenant is not connected here.');
  const own = await deps.db('workload').where({ id: from }).first<{ facts: unknown }>('facts');
  const member = memberOf(row.facts);
  if ((ofStore ? 'person' : kindOf(memberOf(own.facts))) !== kindOf(member))
    throw refuse('body.destination', 'What a person has goes to a person, what a site has to a site, and a conversation to its room.');
  const below = destination.to === 'member' ? destination.below : '';
  return { system, workloadId, destination: { member, below, exists: body.rule } };
}

const kindOf = ({ type }: TenantMember) => (type === 'group' ? 'person' : type);
/** The path of an item as points of its service have it, also where it lies in a mail store. */
const pathIn = (path: string) => mailPathOf(path, false) ?? path;
const topOf = (path: string) => pathIn(path).split('/')[0] ?? '';

async function look(deps: Deps, body: LookBody, picks: readonly ResolvedPick[]): Promise<Looked> {
  const { system, destination } = await placeOf(deps, body, picks);
  const { member, below, exists } = destination;
  const from = tenantOfRow(deps.secrets, system, member);
  const now: MemberNow = await deps.movers.ask({ ask: 'memberNow', from }, askMs, deps.movers.bringsBackBy(system.read_by));
  const checks: Check[] = [];
  const tops = new Set(picks.map((p) => topOf(p.path)));
  const wanted = now.services.filter((s) => tops.has('') || tops.has(s.top));
  for (const { top, trouble } of wanted) if (trouble) checks.push({ level: 'stop', code: 'SERVICE_AWAY', text: `${top}: ${trouble}` });
  for (const top of tops)
    if (top !== '' && !now.services.some((s) => s.top === top))
      checks.push({ level: 'stop', code: 'SERVICE_ABSENT', text: `${top} is not connected for ${member.name}.` });
  for (const { top, free } of wanted) {
    const bytes = picks.filter((p) => p.path === '' || topOf(p.path) === top).reduce((sum, p) => sum + p.size, 0);
    if (free === null) continue;
    if (free < bytes)
      checks.push({
        level: 'stop',
        code: 'NO_ROOM',
        text: `${member.name} has ${formatBytes(free)} left in ${top}; ${formatBytes(bytes)} are to come back.`,
      });
    else checks.push({ level: 'fine', code: 'ROOM', text: `${member.name} has ${formatBytes(free)} left in ${top}.` });
  }
  if (tops.has(tenantTops.chat) || (tops.has('') && member.type === 'room'))
    checks.push({
      level: 'fine',
      code: 'ARCHIVE',
      text: 'The conversation comes back as a room of its own, which those of the room get into; what is said there now stays as it is.',
    });
  else
    checks.push({
      level: exists === 'replace' ? 'look' : 'fine',
      code: exists === 'replace' ? 'REPLACED' : 'KEPT',
      text: `Nothing is removed. What is there already, the same, is not brought twice; ${rules[exists]}.`,
    });
  const folder = below === '' ? '' : `${below}/`;
  const goesTo = ({ path }: ResolvedPick) => {
    const inside = parentPath(pathIn(path)).split('/').slice(1).map(objectNameOf).join('/');
    const where = path === '' ? below || 'where it was' : `${topOf(path)}/${folder}${inside}`;
    return escapePath(`${where} of ${member.name}`);
  };
  return { goesTo, checks };
}

/** Items of people, sites and rooms, back to where they were or to somebody else. */
export const tenantRestores: RestorePlanner = {
  look,

  async tasks(deps, body, picks) {
    const { system, destination } = await placeOf(deps, body, picks);
    return [taskTo(body, picks, { kind: 'tenant', sourceId: system.id, destination })];
  },

  async rescue(deps, body, picks) {
    if (body.rule !== 'replace' || body.trial) return null;
    const { workloadId } = await placeOf(deps, body, picks);
    const rescue = await rescueOf(deps, picks);
    return rescue?.workloadId === workloadId ? rescue : null;
  },

  rules(body) {
    const { destination } = body;
    const where =
      destination.to === 'member'
        ? `to somebody else or another folder${destination.below ? `, below ${destination.below}` : ''}`
        : 'to where it was';
    return `${trialWords(body)}${where}; ${rules[body.rule]}`;
  },
};
