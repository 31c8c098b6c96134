import type { SettingsRecord } from '@lithodex/contract';
import { auditHead } from '../../base/audit/trail';
import type { Deps } from '../deps';
import { ApiError } from '../../base/errors';
import { refOf, shownPlace, type TargetRow } from '../../records/targets/target-rows';
import { settingsNow, sumOf } from './settings-now';

const askMs = 10_000;
/** A target that could not be written is tried again after so long. */
const againMs = 60_000;

/**
 * Writes the settings to every target that does not have them as they are. Not to cartridges, which would have to be loaded for it; nor to a store that was
 * taken over, until somebody has said what becomes of those kept there.
 */
export class SettingsKeeper {
  private lastRow = -1;
  private pending = true;
  private busy: Promise<void> | undefined;
  private readonly notBefore = new Map<string, number>();

  constructor(private readonly deps: Deps) {}

  /** Begins a round, unless one is under way. Returns when it ends. */
  round(): Promise<void> {
    this.busy ??= this.keep()
      .catch((error: unknown) => {
        this.deps.log.warn({ err: error }, 'the settings could not be written to every target');
      })
      .finally(() => {
        this.busy = undefined;
      });
    return this.busy;
  }

  /** When no round is under way any more. */
  async ended(): Promise<void> {
    await this.busy;
  }

  private async keep(): Promise<void> {
    const { db, clock, movers } = this.deps;
    if (!movers.present().length) return;
    // every change of a setting stands in the trail
    const head = await auditHead(db);
    const lacking = await db('target')
      .where({ settings_held: false, settings_sum: null })
      .where((q) => void q.whereNull('address').orWhereRaw("JSON_VALUE(address, '$.kind') <> 'cartridges'"))
      .first<{ id: string } | undefined>('id');
    if (head.rows === this.lastRow && !this.pending && !lacking) return;
    const settings = await settingsNow(db);
    const sum = sumOf(settings);
    this.pending = false;
    for (const target of await db('target').where({ settings_held: false }).select<TargetRow[]>()) {
      if (target.settings_sum === sum || shownPlace(target).kind === 'cartridges') continue;
      if (
        clock.now() < (this.notBefore.get(target.id) ?? 0) ||
        !(await this.keepOn(target, { settings, on: target.id, auditHead: head }))
      ) {
        this.pending = true;
        continue;
      }
      await db('target').where({ id: target.id }).update({ settings_sum: sum, settings_at: clock.now() });
    }
    this.lastRow = head.rows;
  }

  private async keepOn(target: TargetRow, record: SettingsRecord): Promise<boolean> {
    const { deps } = this;
    try {
      const text = JSON.stringify(record);
      await deps.movers.ask({ ask: 'keepSettings', target: refOf(deps.secrets, target), at: deps.clock.now(), text }, askMs);
      return true;
    } catch (error) {
      if (!(error instanceof ApiError)) throw error;
      this.notBefore.set(target.id, deps.clock.now() + againMs);
      return false;
    }
  }
}
