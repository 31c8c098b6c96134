import { countOf, formatBytes } from '@lithodex/core';
import type { RestoreBody } from '@lithodex/contract';
import type { ApplicationDestination, ApplicationLook } from '@lithodex/kinds';
import { DateTime } from 'luxon';
import { applicationOfRow, type SystemRow } from '../../records/systems/system-rows';
import { pointRefs } from '../../records/targets/refs';
import { ApiError } from '../../base/errors';
import type { Deps } from '../deps';
import type { ResolvedPick } from './resolve-picks';
import { onlyWorkload, refuse, trialWords, type Check, type LookBody, type Looked, type RestorePlanner, taskTo } from './restore-planner';

const askMs = 45_000;
const usualPatience = 300;
const mostNamed = 5;

interface Place {
  readonly system: SystemRow;
  readonly destination: ApplicationDestination;
}

/** Where an application goes. Throws INVALID where that can't be. */
async function placeOf(deps: Deps, body: Pick<RestoreBody, 'destination' | 'rule'>, picks: readonly ResolvedPick[]): Promise<Place> {
  const { destination: to, rule } = body;
  const workloadId = onlyWorkload(picks);
  if (workloadId === null || new Set(picks.map((p) => p.point.id)).size !== 1)
    throw refuse('body.picks', 'One point of one application at a time.');
  if (picks.some((p) => p.workloadKind !== 'application')) throw refuse('body.picks', 'Only applications go to clusters.');
  if (picks.some(({ path }) => /^volumes\/[^/]+\//.test(path)))
    throw refuse('body.picks', 'Files of a volume come back with the whole of it; or choose a folder or a download for them.');
  if (rule === 'beside' || rule === 'replaceIfOlder')
    throw refuse(
      'body.rule',
      'Resources are left as they are, or made as they were; volumes then come beside, and the application is switched to them.',
    );
  const own = await deps.db('workload').where({ id: workloadId }).first<{ source_id: number; outer_id: string }>('source_id', 'outer_id');
  const systemId = to.to === 'application' ? to.systemId : own.source_id;
  const system = await deps.db('source').where({ id: systemId, kind: 'application' }).whereNotNull('secret').first<SystemRow | undefined>();
  if (!system) throw refuse('body.destination', 'The cluster is not connected here.');
  const usual = { namespace: own.outer_id, rewrites: [], volumes: true, start: true, patience: usualPatience };
  const { namespace, rewrites, volumes, start, patience } = to.to === 'application' ? to : usual;
  const stamp = DateTime.fromMillis(picks[0]!.point.moment, { zone: deps.config.zone }).toFormat('yyyyMMdd-HHmm');
  return {
    system,
    destination: { namespace, rewrites, volumes, start, patience, exists: rule, stamp },
  };
}

/** What would come of it, asked of the cluster. */
async function lookAt(
  deps: Deps,
  { system, destination }: Place,
  { readFrom }: Pick<RestoreBody, 'readFrom'>,
  picks: readonly ResolvedPick[],
): Promise<ApplicationLook> {
  const [point] = await pointRefs(deps.db, deps.secrets, [picks[0]!.point.id], readFrom);
  if (!point) throw new ApiError('POINT_GONE');
  const { server } = applicationOfRow(deps.secrets, system, '');
  const paths = picks.map((p) => p.path);
  return deps.movers.ask({ ask: 'applicationLook', point, paths, server, destination }, askMs, deps.movers.bringsBackBy(system.read_by));
}

const few = (names: readonly string[]) =>
  [...names.slice(0, mostNamed), ...(names.length > mostNamed ? [`${names.length - mostNamed} more`] : [])].join(', ');

function checksOf(look: ApplicationLook, { system, destination: { namespace, exists, volumes, start } }: Place): Check[] {
  const checks: Check[] = [];
  const say = (level: Check['level'], code: string, text: string) => void checks.push({ level, code, text });
  if (look.trouble) {
    say('stop', 'CLUSTER_SHUT', look.trouble);
    return checks;
  }
  if (look.unknownKinds.length)
    say(
      'stop',
      'KINDS_UNKNOWN',
      `${system.name} does not know ${few(look.unknownKinds)}: install there what brings them, or leave them out.`,
    );
  else say('fine', 'KINDS_KNOWN', `${system.name} knows every kind in the version that comes.`);
  if (look.missingRights.length) say('stop', 'RIGHT_MISSING_THERE', `The account there may not ${few(look.missingRights)}.`);
  else say('fine', 'RIGHTS_THERE', 'The account there may make all of it.');
  if (volumes && look.missingClasses.length)
    say('stop', 'NO_CLASS', `There is no class of volumes ${few(look.missingClasses)} there: rewrite it.`);
  const there = look.steps.reduce((sum, s) => sum + s.exists, 0);
  if (!look.there) say('fine', 'NAMESPACE_MADE', `The namespace ${namespace} is made.`);
  else if (there === 0) say('fine', 'NOTHING_THERE', `Nothing of it is in ${namespace}.`);
  else if (exists === 'leave')
    say('fine', 'KEPT', `${countOf(there, 'resource')} of it are in ${namespace} already, and stay as they are.`);
  else say('look', 'REPLACED', `${countOf(there, 'resource')} of it are in ${namespace}, and are made as they were.`);
  const beside = look.volumes.filter((v) => volumes && v.exists && exists === 'replace');
  if (beside.length)
    say(
      'look',
      'SWITCHED',
      `${few(beside.map((v) => v.claim))} are used there: they come beside, and the application is switched to them. The old ones stay until somebody removes them.`,
    );
  if (look.pointing.length) {
    const where = [...new Set(look.pointing.map((p) => `${p.kind} ${p.name}`))];
    say('look', 'STILL_POINTING', `${few(where)} would still lead to the old place.`);
  } else say('fine', 'NOTHING_POINTING', 'Nothing in it leads to the old place.');
  if (!start) say('fine', 'AT_REST', 'Nothing is started: what runs is made with no pods.');
  if (volumes)
    say(
      'fine',
      'VOLUMES',
      `${countOf(look.volumes.length, 'volume')}, ${formatBytes(look.volumes.reduce((sum, v) => sum + v.bytes, 0))}, each compared with what is stored before anything starts.`,
    );
  return checks;
}

async function look(deps: Deps, body: LookBody, picks: readonly ResolvedPick[]): Promise<Looked> {
  const place = await placeOf(deps, body, picks);
  const application = await lookAt(deps, place, body, picks);
  const { system, destination } = place;
  return { goesTo: () => `${destination.namespace} on ${system.name}`, checks: checksOf(application, place), application };
}

/** Applications, back to where they were or to another cluster or namespace. */
export const applicationRestores: RestorePlanner = {
  look,

  async tasks(deps, body, picks) {
    const { system, destination } = await placeOf(deps, body, picks);
    return [taskTo(body, picks, { kind: 'application', sourceId: system.id, destination })];
  },

  rules(body) {
    const { destination: to } = body;
    const where =
      to.to === 'application'
        ? `to the namespace ${to.namespace}${to.rewrites.length ? `, ${countOf(to.rewrites.length, 'rewrite')}` : ''}`
        : 'to where it was';
    const exists = body.rule === 'leave' ? 'what exists is left' : 'what exists is made as it was, volumes beside and switched to';
    return `${trialWords(body)}${where}; ${exists}`;
  },
};
