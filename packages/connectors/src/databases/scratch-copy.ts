import type { DatabaseFamily } from '@lithodex/kinds';
import type { RestoreContext, RestorePick } from '../connector';
import { familyOf } from './families';
import { backsOf, broughtToScratch, hooksOf } from './restore-database';

/** A database server of the mover's own with what a point holds in it: nobody else reaches it. */
export interface ScratchCopy {
  readonly databases: readonly string[];
  /** The first value that a question gives, by an account that may only read that database; null for none. Throws SourceError. */
  ask(database: string, sql: string): Promise<string | null>;
  /** Stops it and removes everything of it. */
  stop(): Promise<void>;
}

/** Brings what is picked to a server of the mover's own. Throws SourceError. */
export async function scratchCopy(ctx: RestoreContext, picks: readonly RestorePick[], of: DatabaseFamily): Promise<ScratchCopy> {
  const family = familyOf(of);
  const databases = await backsOf(picks);
  const scratch = await broughtToScratch(family, databases, hooksOf(ctx));
  return {
    databases: databases.map((d) => d.to),
    ask: (database, sql) => family.ask(scratch.server, database, sql),
    stop: () => scratch.stop(),
  };
}
