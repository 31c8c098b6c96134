import {
  bytesOfText,
  escapePath,
  formatExact,
  formatMoment,
  formatPrice,
  isOlder,
  keyOfOlder,
  keyOfPath,
  restorePrice,
} from '@lithodex/core';
import type { RestoreBody } from '@lithodex/contract';
import { BucketPoint, frozenClasses, type BucketAddress, type BucketDestination, type BucketNow } from '@lithodex/kinds';
import { DateTime } from 'luxon';
import { fromJsonOrNull } from '../../base/db/json';
import { addressOfRow, bucketOfRow, type SystemRow } from '../../records/systems/system-rows';
import type { Deps } from '../deps';
import { rescueOf } from './rescue';
import type { ResolvedPick } from './resolve-picks';
import {
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

const askMs = 45_000;

interface Place {
  readonly system: SystemRow;
  readonly workloadId: number;
  /** The bucket the points are of. */
  readonly from: string;
  readonly destination: BucketDestination;
}

/** Which bucket objects go to. Throws INVALID where that can't be. */
async function placeOf(deps: Deps, body: Pick<RestoreBody, 'destination' | 'rule'>, picks: readonly ResolvedPick[]): Promise<Place> {
  const { destination: to } = body;
  const workloadId = onlyWorkload(picks);
  if (workloadId === null) throw refuse('body.picks', 'Objects of one bucket at a time.');
  if (picks.some((p) => p.workloadKind !== 'bucket')) throw refuse('body.picks', 'Only objects of buckets go to buckets.');
  const own = await deps.db('workload').where({ id: workloadId }).first<{ source_id: number; outer_id: string }>('source_id', 'outer_id');
  const systemId = to.to === 'bucket' ? to.systemId : own.source_id;
  const system = await deps.db('source').where({ id: systemId, kind: 'bucket' }).whereNotNull('secret').first<SystemRow | undefined>();
  if (!system) throw refuse('body.destination', 'The object storage is not connected here.');
  const newest = Math.max(...picks.map((p) => p.point.moment));
  const stamp = DateTime.fromMillis(newest, { zone: deps.config.zone }).toFormat('yyyy-MM-dd HHmm');
  const place = to.to === 'bucket' ? to : { bucket: own.outer_id, prefix: '', class: '', make: false, at: null };
  const { bucket, prefix, make, at } = place;
  if (at !== null) mustReach(at, picks);
  if (picks.some((p) => isOlder(p.path) && (p.kind !== 'file' || at !== null)))
    throw refuse('body.picks', 'Of older versions choose single ones; or choose objects, and a second.');
  return {
    system,
    workloadId,
    from: own.outer_id,
    destination: { bucket, prefix, class: place.class, make, at, exists: body.rule, stamp },
  };
}

/** A second can be reached from points of later that hold older versions. Throws INVALID. */
function mustReach(at: number, picks: readonly ResolvedPick[]): void {
  for (const { point } of picks) {
    const facts = BucketPoint.safeParse(fromJsonOrNull(point.facts)).data;
    if (!facts?.older) throw refuse('body.destination', 'That point holds no older versions: choose how it was at the moment of a point.');
    if (at > point.moment) throw refuse('body.destination', 'That second is later than the point: choose a later point.');
  }
}

/** The first point of the workload that was taken after a second. */
async function firstAfter(deps: Deps, workloadId: number, at: number): Promise<number | null> {
  const row = await deps
    .db('point')
    .where({ workload_id: workloadId, state: 'visible' })
    .where('moment', '>=', at)
    .orderBy('moment')
    .first<{ moment: number } | undefined>('moment');
  return row?.moment ?? null;
}

function checksOf(
  now: BucketNow,
  { destination: { bucket, make, at, exists, class: kept } }: Place,
  zone: string,
  moment: number,
): Check[] {
  const checks: Check[] = [];
  if (now.trouble) checks.push({ level: 'stop', code: 'BUCKET_SHUT', text: now.trouble });
  else if (!now.there && !make)
    checks.push({ level: 'stop', code: 'NO_BUCKET', text: `There is no bucket ${bucket}. Let it be made, or choose another one.` });
  else if (!now.there)
    checks.push({
      level: 'fine',
      code: 'BUCKET_MADE',
      text: `The bucket ${bucket} is made; it keeps no versions and is open to its owner alone.`,
    });
  if (frozenClasses.includes(kept))
    checks.push({
      level: 'look',
      code: 'CLASS_FROZEN',
      text: 'What is written in this class has to be thawed before anybody can read it.',
    });
  const versions =
    now.versioning === 'on'
      ? 'The bucket keeps versions: what is replaced stays there as an older one.'
      : 'The bucket keeps no versions: what is replaced is gone there.';
  if (exists === 'replace' || exists === 'replaceIfOlder')
    checks.push({ level: now.versioning === 'on' ? 'fine' : 'look', code: 'REPLACED', text: versions });
  else checks.push({ level: 'fine', code: 'KEPT', text: 'Nothing is replaced or removed.' });
  if (now.locks && exists !== 'leave')
    checks.push({ level: 'fine', code: 'LOCKED_THERE', text: 'Versions that are locked there stay as they are.' });
  checks.push({
    level: 'fine',
    code: 'AS_OF',
    text:
      at == null
        ? `Objects come back as they were listed up to ${formatMoment(moment, zone)}, each with its headers, notes, tags and class.`
        : `Objects come back as they were at the end of ${formatExact(at, zone)}; those that were not there then do not.`,
  });
  return checks;
}

/** A key, which is text of any kind, as it may be shown. */
const shown = (key: string) => escapePath(bytesOfText(key)) || 'everything';

async function look(deps: Deps, body: LookBody, picks: readonly ResolvedPick[]): Promise<Looked> {
  const place = await placeOf(deps, body, picks);
  const { system, destination, from } = place;
  const { server } = bucketOfRow(deps.secrets, system, '');
  const now = await deps.movers.ask(
    { ask: 'bucketNow', server, bucket: destination.bucket },
    askMs,
    deps.movers.bringsBackBy(system.read_by),
  );
  const where = destination.bucket === from && destination.prefix === '' ? 'where it was' : destination.bucket;
  const goesTo = ({ path }: ResolvedPick) =>
    `${shown(destination.prefix + (isOlder(path) ? keyOfOlder(path) : keyOfPath(path)))}, ${where}`;
  const moment = Math.max(...picks.map((p) => p.point.moment));
  const checks = checksOf(now, place, deps.config.zone, moment);
  const { prices } = addressOfRow(system) as BucketAddress;
  if (prices) {
    const objects = picks.reduce((sum, p) => sum + p.items, 0);
    const price = formatPrice(restorePrice(objects, prices), prices.currency);
    checks.push({ level: 'fine', code: 'PRICE_THERE', text: `To look for and write them costs about ${price} there.` });
  }
  const { at } = destination;
  const near = at == null ? null : await firstAfter(deps, place.workloadId, at);
  if (near !== null && near < moment)
    checks.push({
      level: 'look',
      code: 'NEARER_POINT',
      text: `The point of ${formatMoment(near, deps.config.zone)} is nearer to that second: what the bucket let go of between the two is in that one alone.`,
    });
  return { goesTo, checks };
}

/** Objects of buckets, back to where they were, below another prefix, or to another bucket. */
export const bucketRestores: RestorePlanner = {
  look,

  async tasks(deps, body, picks) {
    const { system, destination } = await placeOf(deps, body, picks);
    return [taskTo(body, picks, { kind: 'bucket', sourceId: system.id, destination })];
  },

  async rescue(deps, body, picks) {
    if (!mayReplace(body)) return null;
    const { system, destination, from } = await placeOf(deps, body, picks);
    const rescue = await rescueOf(deps, picks);
    return rescue?.sourceId === system.id && destination.bucket === from ? rescue : null;
  },

  rules(body) {
    const { destination: to } = body;
    const where =
      to.to === 'bucket'
        ? `to the bucket ${to.bucket}${to.prefix ? `, below ${to.prefix}` : ''}${to.class ? `, as ${to.class}` : ''}`
        : 'to where they were';
    return `${trialWords(body)}${where}; ${ruleWords[body.rule]}`;
  },
};
