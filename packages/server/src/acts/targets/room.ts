import { fillDate, forecastRoom, type FillDate, type Forecast, type RoomSample } from '@lithodex/core';
import type { Deps } from '../deps';
import { ApiError } from '../../base/errors';
import { refOf, type TargetRow } from '../../records/targets/target-rows';

const dayMs = 86_400_000;
/** A room is remembered at most this often. */
const sampleEveryMs = 6 * 3_600_000;
/** Forecasts look back so far. */
const lookBackMs = 120 * dayMs;

/** Asks a mover how full a target is and remembers the answer, or what kept it from answering; tells of it where it is another than before. */
export async function measureTarget(deps: Deps, target: TargetRow): Promise<void> {
  const changed = async (now: Pick<TargetRow, 'used' | 'free' | 'trouble'>) => {
    if (now.used !== target.used || now.free !== target.free || now.trouble !== target.trouble) await deps.events.emit('room');
  };
  try {
    const room = await deps.movers.ask({ ask: 'targetRoom', target: refOf(deps.secrets, target) }, 5000);
    const now = deps.clock.now();
    const followed_by = room.followed.length ? JSON.stringify(room.followed) : null;
    const seen = { used: room.used, free: room.free, owned_elsewhere: room.ownedElsewhere, followed_by };
    await deps
      .db('target')
      .where({ id: target.id })
      .update({ ...seen, measured_at: now, trouble: null });
    const recent = await deps
      .db('room_sample')
      .where({ target_id: target.id })
      .where('at', '>', now - sampleEveryMs)
      .first<{ at: number } | undefined>('at');
    if (!recent) await deps.db('room_sample').insert({ target_id: target.id, at: now, used: room.used }).onConflict().ignore();
    await changed({ ...room, trouble: null });
    if ((room.ownedElsewhere === null) !== (target.owned_elsewhere === null)) await deps.events.emit('estate');
  } catch (error) {
    if (!(error instanceof ApiError) || error.code !== 'MOVER_FAILED') return;
    const trouble = error.message.slice(0, 500);
    await deps.db('target').where({ id: target.id }).update({ trouble, measured_at: deps.clock.now() });
    await changed({ ...target, trouble });
  }
}

/** Measures the targets whose figures are older than `olderThanMs`, where a mover can be asked. */
export async function measureStale(deps: Deps, olderThanMs: number): Promise<void> {
  if (!deps.movers.present().length) return;
  const stale = await deps
    .db('target')
    .whereNull('measured_at')
    .orWhere('measured_at', '<', deps.clock.now() - olderThanMs)
    .select<TargetRow[]>();
  await Promise.all(stale.map((target) => measureTarget(deps, target)));
}

/** How full a target was, oldest first. */
export async function samplesOf(deps: Deps, targetId: string): Promise<RoomSample[]> {
  const rows = deps
    .db('room_sample')
    .where({ target_id: targetId })
    .where('at', '>', deps.clock.now() - lookBackMs);
  return rows.orderBy('at').select<RoomSample[]>('at', 'used');
}

export interface Outlook {
  readonly target: TargetRow;
  /** undefined where too little is known, or the target has no end. */
  readonly forecast: Forecast | undefined;
  readonly fill: FillDate | undefined;
}

/** When a target will be full. */
export async function outlookFor(deps: Deps, target: TargetRow): Promise<Outlook> {
  const samples = await samplesOf(deps, target.id);
  const forecast = forecastRoom(samples);
  const last = samples.at(-1);
  const known = forecast && last && target.free !== null && target.used !== null;
  return { target, forecast, fill: known ? fillDate(forecast, last.at, target.used + target.free) : undefined };
}

/** When each target will be full, as far as its history tells. */
export async function outlooks(deps: Deps): Promise<Outlook[]> {
  const targets = await deps.db('target').orderBy('name').select<TargetRow[]>();
  return Promise.all(targets.map((target) => outlookFor(deps, target)));
}
