import type { InstallationRow, InstallationState } from '@lithodex/contract';
import { fromJsonOrNull } from '../../base/db/json';
import type { Secrets } from '../../base/secrets';
import type { Deps } from '../deps';
import { askInstallation, InstallationTrouble, type InstallationAccess } from './ask-installation';

export interface KeptInstallation {
  readonly id: number;
  readonly name: string;
  readonly url: string;
  readonly authority: string | null;
  /** Its token, sealed. */
  readonly secret: Buffer;
  /** {@link InstallationState} as JSON. */
  readonly state: unknown;
  readonly answered_at: number | null;
  readonly tried_at: number | null;
  readonly trouble: string;
  readonly clock_ahead: number;
}

/** So old what it said may be when somebody looks, ms. */
const freshMs = 30_000;
/** So often it is asked while nobody looks. */
const staleMs = 5 * 60_000;

const purpose = (id: number) => `installation ${id}`;
export const sealedToken = (secrets: Secrets, id: number, token: string): Buffer => secrets.seal(purpose(id), token);

export const accessOf = (secrets: Secrets, { id, url, authority, secret }: KeptInstallation): InstallationAccess => ({
  url,
  authority,
  token: secrets.open(purpose(id), secret),
});

/** Asks an installation and keeps what it says; what it said before stays where it is silent. */
async function askAgain({ db, clock, secrets }: Deps, row: KeptInstallation): Promise<void> {
  const now = clock.now();
  try {
    const { state, clockAhead } = await askInstallation(accessOf(secrets, row), now);
    await db('installation')
      .where({ id: row.id })
      .update({ state: JSON.stringify(state), answered_at: now, tried_at: now, trouble: '', clock_ahead: Math.round(clockAhead) });
  } catch (error) {
    if (!(error instanceof InstallationTrouble)) throw error;
    await db('installation')
      .where({ id: row.id })
      .update({ tried_at: now, trouble: error.message.slice(0, 300) });
  }
}

/** Asks those that were not asked for a while. */
export async function readStaleInstallations(deps: Deps, ms = staleMs): Promise<void> {
  const rows = await deps.db('installation').select<KeptInstallation[]>();
  const stale = rows.filter((r) => deps.clock.now() - (r.tried_at ?? 0) >= ms);
  await Promise.all(stale.map((row) => askAgain(deps, row)));
}

/** All of them, asked again where what they said is no longer fresh. */
export async function lookAtInstallations(deps: Deps): Promise<InstallationRow[]> {
  await readStaleInstallations(deps, freshMs);
  const rows = await deps.db('installation').orderBy('name').select<KeptInstallation[]>();
  return rows.map((r) => ({
    id: r.id,
    name: r.name,
    url: r.url,
    authority: r.authority,
    state: fromJsonOrNull<InstallationState>(r.state),
    at: r.answered_at,
    trouble: r.trouble,
    clockAhead: r.clock_ahead,
  }));
}
