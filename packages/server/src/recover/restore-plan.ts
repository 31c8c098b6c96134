import { baseName, countOf, escapePath, formatBytes, joinPath, median, readPrice } from '@lithodex/core';
import type { AnswerTo, Body, MachinePoint, PriceTable, RestorePlan } from '@lithodex/contract';
import { filesBelow } from '../catalog/tree';
import { fromJson, fromJsonOrNull } from '../db/json';
import type { Deps } from '../deps';
import { ApiError } from '../errors';
import type { Actor } from '../http/access';
import { tooLittleToMeasure } from '../runs/run-rows';
import { cartridgeCheck } from './cartridge-check';
import { isDatabase, isDatabaseRestore, lookAtServer } from './database-restores';
import { isMachineRestore, lookAtPlatforms, machinePicks } from './machine-restores';
import { resolvePicks, type ResolvedPick } from './resolve-picks';

const mostLooked = 4000;
/** Bytes below which the fixed cost of a task hides its rate. */

type Look = AnswerTo<'look'>;

/** What a restore would do, checked against the destination as it is now, with what it would bring back. Throws NOT_ALLOWED for a clerk who wants it elsewhere. */
export async function planRestore(
  deps: Deps,
  body: Body<'planRestore'>,
  actor: Actor,
): Promise<{ readonly plan: RestorePlan; readonly picks: readonly ResolvedPick[] }> {
  if (actor.role === 'clerk' && body.destination.to !== 'original')
    throw new ApiError('NOT_ALLOWED', undefined, 'You may restore to the original place only.');
  const picks = await resolvePicks(deps, body, actor);
  const names = new Map((await deps.db('workload').select<{ id: number; name: string }[]>('id', 'name')).map((w) => [w.id, w.name]));
  const bytes = picks.reduce((a, p) => a + p.size, 0);
  const items = picks.reduce((a, p) => a + p.items, 0);
  const measured = await measuredRate(deps);
  const machines = isMachineRestore(body, picks) ? await lookAtPlatforms(deps, body, await machinePicks(deps, picks)) : undefined;
  const databases = isDatabaseRestore(body, picks) ? await lookAtServer(deps, body, picks) : undefined;
  const looked = machines || databases || body.destination.to === 'download' ? undefined : await lookAtDestination(deps, picks);
  const cartridges = await cartridgeCheck(deps, picks);
  const goesTo = (p: ResolvedPick) =>
    machines?.goesTo.get(p.point.id) ??
    databases?.goesTo(p) ??
    (body.destination.to === 'download' ? 'download' : escapePath(joinPath(p.base, p.to)));
  const plan: RestorePlan = {
    items: picks.slice(0, 500).map((p) => ({
      pick: { pointId: p.point.id, path: escapePath(p.path) },
      name: escapePath(p.path === '' ? (names.get(p.point.workload_id) ?? '/') : baseName(p.path)),
      kind: p.kind,
      workload: names.get(p.point.workload_id) ?? '',
      moment: p.point.moment,
      goesTo: goesTo(p),
      size: p.size,
      items: p.items,
      suspect: p.point.suspect === 1,
      machine: p.point.machine !== null,
      database: isDatabase(p),
      disks: p.path ? [] : (fromJsonOrNull<MachinePoint>(p.point.machine)?.disks ?? []).map(({ label, size }) => ({ label, size })),
    })),
    total: { items, files: items, bytes, picks: picks.length },
    ...(await placesOf(deps, picks)),
    price: await priceOf(deps, picks),
    estimateMs: measured.rate ? Math.round((bytes / measured.rate) * 1000) : null,
    rate: measured.rate,
    rateFrom: measured.from,
    checks: [
      ...(machines?.checks ?? []),
      ...(databases?.checks ?? []),
      ...checksOf(body, picks, looked, bytes),
      ...(cartridges ? [cartridges] : []),
    ],
    existing: { looked: looked?.looked ?? 0, exist: looked?.exist ?? 0, newer: looked?.newer ?? 0, complete: looked?.complete ?? true },
    free: looked?.free ?? null,
  };
  return { plan, picks };
}

/** Where the picked points are read, and where all of them could be. */
async function placesOf(deps: Deps, picks: readonly ResolvedPick[]): Promise<Pick<RestorePlan, 'readFrom' | 'copies'>> {
  const targets = new Map((await deps.db('target').select<{ id: string; name: string }[]>('id', 'name')).map((t) => [t.id, t.name]));
  const points = new Map<string, Set<string>>();
  for (const p of picks) {
    const name = targets.get(p.ref.target.id) ?? '';
    points.set(name, (points.get(name) ?? new Set()).add(p.point.id));
  }
  const everywhere = [...targets].filter(([id]) => picks.every((p) => [p.ref.target, ...p.ref.others].some((t) => t.id === id)));
  return {
    readFrom: [...points].map(([target, ids]) => ({ target, points: ids.size })),
    copies: everywhere.map(([targetId, target]) => ({ targetId, target })),
  };
}

/** Price of reading the picks where they are read first, as if nothing were compressed. One currency at a time: the first that is met. */
async function priceOf(deps: Deps, picks: readonly ResolvedPick[]): Promise<RestorePlan['price']> {
  const rows = await deps.db('target').whereNotNull('prices').select<{ id: string; prices: unknown }[]>('id', 'prices');
  const tables = new Map(rows.map((r) => [r.id, fromJson<PriceTable>(r.prices)]));
  const priced = picks.flatMap((p) => {
    const table = tables.get(p.ref.target.id);
    return table ? [{ table, bytes: p.size, requests: p.items }] : [];
  });
  const currency = priced[0]?.table.currency;
  if (currency === undefined) return null;
  const same = priced.filter((p) => p.table.currency === currency);
  return { currency, amount: same.reduce((sum, p) => sum + readPrice(p.bytes, p.requests, p.table), 0) };
}

/** Bytes a second: the median of recent restores, or of recent reads of sources while nothing was restored yet. */
async function measuredRate(deps: Deps): Promise<{ rate: number | null; from: string }> {
  for (const [type, from] of [
    ['restore', 'recent restores'],
    ['backup', 'recent backups'],
  ] as const) {
    const rows = await deps
      .db('task')
      .where({ type })
      .where('measured_ms', '>', 0)
      .where('measured_bytes', '>', tooLittleToMeasure)
      .orderBy('ended_at', 'desc')
      .limit(25)
      .select<{ ms: number; bytes: number }[]>('measured_ms as ms', 'measured_bytes as bytes');
    if (rows.length) return { rate: Math.round(median(rows.map((r) => (r.bytes / r.ms) * 1000))), from };
  }
  return { rate: null, from: 'nothing was measured yet' };
}

async function lookAtDestination(deps: Deps, picks: readonly ResolvedPick[]): Promise<Look & { looked: number; complete: boolean }> {
  const places: { base: string; path: string; mtimeNs: string }[] = [];
  let complete = true;
  for (const pick of picks) {
    if (places.length >= mostLooked) {
      complete = false;
      break;
    }
    const files = await filesBelow(deps.db, pick.point.series_no, pick.path, pick.row, pick.point.ordinal, mostLooked - places.length + 1);
    for (const file of files.slice(0, mostLooked - places.length)) {
      const below = pick.path === '' ? file.path : file.path.slice(pick.path.length).replace(/^\//, '');
      places.push({ base: pick.base, path: [pick.to, below].filter(Boolean).join('/'), mtimeNs: String(file.row.mtime_ns) });
    }
    if (files.length > mostLooked) complete = false;
  }
  const destination = picks[0]?.base ?? '/';
  const cameFrom = new Set(picks.map((p) => p.ref.root));
  const look = await deps.movers.ask({ ask: 'look', places, destination, cameFrom: cameFrom.size === 1 ? picks[0]!.ref.root : null });
  return { ...look, looked: places.length, complete };
}

function checksOf(
  body: Body<'planRestore'>,
  picks: readonly ResolvedPick[],
  look: Awaited<ReturnType<typeof lookAtDestination>> | undefined,
  bytes: number,
): RestorePlan['checks'] {
  const checks: RestorePlan['checks'] = [];
  const say = (level: RestorePlan['checks'][number]['level'], code: string, text: string) => checks.push({ level, code, text });
  if (look) {
    if (look.refused) {
      say('stop', 'REFUSED_THERE', look.refused);
      return checks;
    }
    if (look.free < bytes) say('stop', 'NO_ROOM', `The destination has ${formatBytes(look.free)} free, ${formatBytes(bytes)} are needed.`);
    else say('fine', 'ROOM', `Room: ${formatBytes(look.free)} free, ${formatBytes(bytes)} to write.`);
    if (!look.writable) say('stop', 'NO_RIGHT', `The mover may not write to ${escapePath(look.nearest)}.`);
    else say('fine', 'RIGHTS', 'The mover may write there.');
    const some = look.complete ? '' : ` of the first ${countOf(look.looked, 'file')} looked at`;
    if (look.exist === 0) say('fine', 'NOTHING_EXISTS', `Nothing${some} exists at the destination yet.`);
    else if (body.rule === 'leave' && body.damagedIn)
      say(
        'look',
        'STAYS_DAMAGED',
        `${countOf(look.exist, 'damaged file')} of these would be left standing. Replace what is there, or put the good version beside it.`,
      );
    else if (body.rule === 'leave') say('fine', 'LEFT', `What exists stays as it is: ${countOf(look.exist, 'file')}${some}.`);
    else if (body.rule === 'beside')
      say('fine', 'BESIDE', `What exists stays, the restored version is put beside it: ${countOf(look.exist, 'file')}${some}.`);
    else if (body.rule === 'replaceIfOlder')
      say(
        'fine',
        'OLDER',
        `What exists is replaced if it is older: ${countOf(look.exist, 'file')}${some}, of which ${look.newer} newer and kept.`,
      );
    else
      say(
        look.newer ? 'look' : 'fine',
        'REPLACED',
        look.newer
          ? `Would replace what is newer than the point: ${countOf(look.newer, 'file')}${some}.`
          : `What exists is replaced, none of it newer: ${countOf(look.exist, 'file')}${some}.`,
      );
  }
  const places = new Set(picks.map((p) => joinPath(p.base, p.to)));
  const twice = picks.length - places.size;
  if ((body.destination.to === 'folder' || (body.destination.to === 'original' && look)) && twice > 0)
    say(
      'stop',
      'SAME_PLACE',
      `${countOf(twice, 'item')} would go to the place of another picked version. Keep one version of each, or restore without the original path.`,
    );
  if (picks.some((p) => p.point.suspect === 1)) say('look', 'SUSPECT', 'Some items come from a point that looks damaged.');
  const incomplete = picks.filter((p) => p.point.complete === 0);
  if (incomplete.length) say('look', 'PARTS_MISSING', 'A point did not see everything: what it could not read is not in it.');
  else say('fine', 'COMPLETE', 'Every point used is complete.');
  if (body.destination.to === 'download' && body.destination.format === 'file' && (picks.length !== 1 || picks[0]!.kind !== 'file'))
    say('stop', 'NOT_ONE_FILE', 'A download as a single file needs exactly one file.');
  if (body.destination.to === 'download') checks.push(...imageChecks(body.destination.format, picks));
  return checks;
}

/** Images are made of one disk, packages of one machine. */
function imageChecks(format: string, picks: readonly ResolvedPick[]): RestorePlan['checks'] {
  const [pick] = picks;
  const whole = picks.length === 1 && pick!.point.machine !== null && pick!.path === '';
  const disk = picks.length === 1 && pick!.point.machine !== null && /^disks\/.+/s.test(pick!.path);
  if (format === 'ova' && !whole)
    return [{ level: 'stop', code: 'NOT_ONE_MACHINE', text: 'A package holds one whole machine: pick one, with all it has.' }];
  if (format === 'qcow2' && !disk) return [{ level: 'stop', code: 'NOT_ONE_DISK', text: 'A disk image is made of one disk: pick one.' }];
  return [];
}

/** Throws INVALID when a check forbids the start. */
export function refuseStops(plan: RestorePlan): void {
  const stop = plan.checks.find((c) => c.level === 'stop');
  if (stop) throw new ApiError('INVALID', { check: stop.code }, `${stop.text} Nothing was changed.`);
}
