import type { BodyInput, Point, RunDetail, WorkloadDetail } from '@lithodex/contract';
import { CliError } from '../errors';
import type { Server } from '../server';

/** Something of a point that is to come back. */
export interface Picked {
  readonly pointId: string;
  readonly path: string;
  readonly workload: string;
  readonly moment: number;
}

export const keyOf = ({ pointId, path }: Pick<Picked, 'pointId' | 'path'>): string => `${pointId} ${path}`;

/** A point of a workload, as it is named by a moment: the newest that is not younger; without one, the newest of all. Throws NOT_FOUND. */
export function pointAt(w: Pick<WorkloadDetail, 'name' | 'pointList'>, moment?: number): Point {
  const standing = w.pointList.filter((p) => !p.expired).sort((a, b) => b.moment - a.moment);
  const found = moment === undefined ? standing[0] : standing.find((p) => p.moment <= moment);
  if (found) return found;
  throw new CliError('NOT_FOUND', moment === undefined ? `${w.name} has no points.` : `${w.name} has no point of then or before.`);
}

/** All that a run made points of. */
export async function picksOfRun(server: Server, id: number): Promise<Picked[]> {
  const run: RunDetail = await server.call('getRun', { id });
  const moment = run.startedAt ?? run.queuedAt;
  const picks = run.tasks.flatMap((t) => (t.pointId === null ? [] : [{ pointId: t.pointId, path: '', workload: t.workload.name, moment }]));
  if (!picks.length) throw new CliError('NOT_FOUND', `Run ${id} has no points that still stand.`);
  return picks;
}

/** The newest points, or those of a moment, of all that a policy protects. */
export async function picksOfPolicy(server: Server, policyId: number, moment?: number): Promise<Picked[]> {
  const { matches } = await server.call('getPolicy', { id: policyId });
  const picks: Picked[] = [];
  for (const { id } of matches) {
    const w = await server.call('workload', { id });
    if (!w.pointList.some((p) => !p.expired && p.moment <= (moment ?? Infinity))) continue;
    const point = pointAt(w, moment);
    picks.push({ pointId: point.id, path: '', workload: w.name, moment: point.moment });
  }
  if (!picks.length) throw new CliError('NOT_FOUND', 'Nothing that this policy protects has a point of then or before.');
  return picks;
}

/** What lines of a list lead to, each in its newest version; and the lines that lead to nothing. */
export async function picksOfPaths(
  server: Server,
  paths: readonly string[],
  workload: number | undefined,
): Promise<{ readonly picks: Picked[]; readonly missing: string[] }> {
  const { rows } = await server.call('findPaths', { body: { paths: [...paths], ...(workload !== undefined && { workload }) } });
  const picks = rows.flatMap(({ found }) =>
    found.map((f) => ({ pointId: f.lastPointId, path: f.path, workload: f.workload.name, moment: f.lastSeen })),
  );
  return { picks, missing: rows.filter((r) => !r.found.length).map((r) => r.line) };
}

/** Everything of a name, each in its newest version. */
export async function picksOfName(server: Server, q: string, workload: number | undefined): Promise<Picked[]> {
  const { rows } = await server.call('search', { query: { q, workload, limit: 500 } });
  return rows.map((f) => ({ pointId: f.lastPointId, path: f.path, workload: f.workload.name, moment: f.lastSeen }));
}

export type Destination = NonNullable<BodyInput<'planRestore'>['destination']>;
export const conflictWords = {
  leave: 'what exists is left as it is',
  replace: 'what exists is replaced',
  replaceIfOlder: 'what exists is replaced if it is older',
  beside: 'the restored one goes beside what exists',
} as const;
export type Conflict = keyof typeof conflictWords;

/** A destination as it is typed: original, a folder that begins with /, tar, zip or file for a download, or JSON. Throws USAGE. */
export function destinationOf(text: string): Destination {
  const word = text.trim();
  if (word === 'original') return { to: 'original' };
  if (word.startsWith('/')) return { to: 'folder', folder: word };
  if (word === 'tar' || word === 'zip' || word === 'file') return { to: 'download', format: word };
  if (word.startsWith('{')) {
    try {
      return JSON.parse(word) as Destination;
    } catch {
      throw new CliError('USAGE', 'The destination is no JSON.');
    }
  }
  throw new CliError(
    'USAGE',
    `"${text}" is no destination: say original, a folder of the mover such as /srv/returned, tar, zip or file for a download, or JSON as the API takes it.`,
  );
}

export function destinationWords(d: Destination): string {
  if (d.to === 'original') return 'where it came from';
  if (d.to === 'folder') return `the folder ${d.folder} of the mover`;
  if (d.to === 'download') return `a download (${d.format})`;
  return JSON.stringify(d);
}

/** What a restore is called where nobody said. */
export function nameOf(picks: readonly Picked[]): string {
  const names = [...new Set(picks.map((p) => p.workload))].join(', ');
  const [only] = picks;
  const what = picks.length === 1 && only ? (only.path === '' ? 'Everything' : only.path.slice(only.path.lastIndexOf('/') + 1)) : 'Items';
  return `${what} of ${names}`.slice(0, 110);
}
