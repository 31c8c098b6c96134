import type { Inventory, ReadAnew } from '@lithodex/contract';
import { inTransaction } from '../../base/db/open';
import type { Deps } from '../deps';
import { ApiError } from '../../base/errors';
import { applyInventory } from './apply-inventory';
import { applySnapshots } from './apply-snapshots';
import { platformRef, type PlatformRow } from '../../records/systems/platform-rows';
import { lockSource } from '../../records/systems/lock-source';

const askMs = 120_000;
/** So old an inventory may be while nothing is due, ms. */
const readAgainMs = 15 * 60_000;

/** What a platform holds, asked there now. Throws MOVER_ABSENT, MOVER_FAILED. */
export async function askInventory(deps: Deps, row: Pick<PlatformRow, 'id' | 'address' | 'secret'>): Promise<Inventory> {
  return deps.movers.ask({ ask: 'platformInventory', platform: platformRef(deps.secrets, row) }, askMs);
}

/** Reads what is on a platform and brings the estate in line with it. Throws as {@link askInventory}, having noted the trouble. */
export async function readPlatform(deps: Deps, row: PlatformRow): Promise<ReadAnew> {
  const { db, clock } = deps;
  let inventory: Inventory;
  try {
    inventory = await askInventory(deps, row);
  } catch (error) {
    if (!(error instanceof ApiError)) throw error;
    await db('source')
      .where({ id: row.id })
      .update({ tried_at: clock.now(), trouble: error.message.slice(0, 500) });
    await deps.events.emit('estate');
    throw error;
  }
  const answer = await inTransaction(db, async (trx) => {
    await lockSource(trx, row.id);
    const now = clock.now();
    const read = await applyInventory(trx, now, row.id, inventory.machines);
    await applySnapshots(trx, now, row.id, inventory.snapshots);
    await trx('source').where({ id: row.id }).update({ read_at: now, tried_at: now, trouble: null });
    return read;
  });
  await deps.events.emit('estate');
  return answer;
}

/** Reads the platforms whose inventory is old. Trouble is noted with the platform, and the others are read all the same. */
export async function readStalePlatforms(deps: Deps): Promise<void> {
  await readPlatforms(deps, ({ tried_at }) => deps.clock.now() - (tried_at ?? 0) >= readAgainMs);
}

/** Reads all platforms again, or those with these ids, as {@link readStalePlatforms}. */
export async function readAllPlatforms(deps: Deps, ids?: ReadonlySet<number>): Promise<void> {
  await readPlatforms(deps, ({ id }) => !ids || ids.has(id));
}

async function readPlatforms(deps: Deps, which: (row: PlatformRow) => boolean): Promise<void> {
  const rows = await deps.db('source').where({ kind: 'platform' }).whereNotNull('secret').select<PlatformRow[]>();
  for (const row of rows.filter(which))
    try {
      await readPlatform(deps, row);
    } catch (error) {
      if (!(error instanceof ApiError)) throw error;
      deps.log.warn({ err: error, source: row.id }, 'a platform could not be read');
    }
}
