import { taskTypes, type FoundMatter, type WorkType } from '@lithodex/contract';
import { countOf, formatFirst, formatList } from '@lithodex/core';
import type { Deps } from '../deps';
import { workFor } from '../../base/http/duties';

const link = (label: string, path: string, query: Record<string, string> = {}) => ({ label, link: path, query });

/** What is wrong with the movers: none answers, none may do what waits, or one is of another version than the server. */
export async function moverMatters(deps: Deps): Promise<FoundMatter[]> {
  const asking = await askingMovers(deps);
  if (!deps.movers.present().length) return [...outdatedMovers(deps), ...(await withoutMover(deps)), ...asking];
  return [...asking, ...outdatedMovers(deps), ...(await withoutAbleMover(deps)), ...(await withoutReader(deps))];
}

/** Movers that wait to be let in. */
async function askingMovers({ db }: Deps): Promise<FoundMatter[]> {
  const rows = await db('mover_asking')
    .where({ refused: false })
    .where('seen_at', '>', Date.now() - 600_000)
    .orderBy('asked_at')
    .select<{ name: string; address: string; asked_at: number }[]>('name', 'address', 'asked_at');
  if (!rows.length) return [];
  const names = formatFirst(
    rows.map((r) => r.name),
    3,
  );
  return [
    {
      id: 'asking-movers',
      level: 'absent',
      title: rows.length === 1 ? `${names} wants to become a mover` : `${countOf(rows.length, 'host')} want to become movers`,
      text: `${rows.length === 1 ? `It asks from ${rows[0]!.address}.` : `${names}.`} Let in only what shows the same number on its own host.`,
      since: rows[0]!.asked_at,
      action: link('See who asks', '/runs/movers'),
      second: null,
    },
  ];
}

function outdatedMovers(deps: Deps): FoundMatter[] {
  return deps.movers.outdated().map((name) => ({
    id: `outdated-${name}`,
    level: 'fault',
    title: `${name} is of another version than the server`,
    text: 'It gets no work until it is started again with the version of the server. What waits for it stays safe.',
    since: deps.clock.now(),
    action: link('See the movers', '/runs/movers'),
    second: null,
  }));
}

async function withoutMover(deps: Deps): Promise<FoundMatter[]> {
  const waiting = await deps.db('task').where({ state: 'waiting' }).count({ n: '*' }).first<{ n: number }>();
  return [
    {
      id: 'no-mover',
      level: 'fault',
      title: 'No mover answers',
      text: `Nothing can be protected or restored until one does. ${countOf(Number(waiting?.n ?? 0), 'task')} waiting. Start a mover on this server.`,
      since: deps.clock.now(),
      action: link('See what waits', '/runs', { states: 'waiting' }),
      second: null,
    },
  ];
}

/** Tasks that none of the movers present may do. */
async function withoutAbleMover(deps: Deps): Promise<FoundMatter[]> {
  const done = new Set(deps.movers.presentDuties().flatMap(workFor));
  type Row = { type: WorkType; n: number; since: number };
  const rows = await deps
    .db('task')
    .where({ state: 'waiting' })
    .whereNotIn('type', [...done])
    .groupBy('type')
    .select<Row[]>('type', deps.db.raw('COUNT(*) AS n'), deps.db.raw('MIN(queued_at) AS since'));
  if (!rows.length) return [];
  const needed = formatList([...new Set(rows.flatMap(({ type }) => taskTypes[type].duties))]);
  const waiting = rows.reduce((sum, { n }) => sum + Number(n), 0);
  return [
    {
      id: 'no-able-mover',
      level: 'fault',
      title: 'No mover may do what waits',
      text: `${countOf(waiting, 'task')} waiting for a mover with the duty to ${needed}; none of those that answer has it. Start one with a token for that.`,
      since: Math.min(...rows.map((r) => r.since)),
      action: link('See what waits', '/runs', { states: 'waiting' }),
      second: null,
    },
  ];
}

/** Sources that one mover alone reads, which is away, or whose mover finds nobody to give to what it reads. */
async function withoutReader(deps: Deps): Promise<FoundMatter[]> {
  type Row = { name: string; read_by: string; seen: number | null };
  const rows = await deps
    .db('source as s')
    .leftJoin('mover as m', 'm.name', 's.read_by')
    .whereNotNull('s.read_by')
    .orderBy('s.name')
    .select<Row[]>('s.name', 's.read_by', 'm.last_seen as seen');
  const present = new Set(deps.movers.present());
  const readers = new Set(deps.movers.readersOnly());
  return [...new Set(rows.map((r) => r.read_by))].flatMap((mover): FoundMatter[] => {
    const own = rows.filter((r) => r.read_by === mover);
    const sources = formatFirst(
      own.map((r) => r.name),
      3,
    );
    const matter = (title: string, text: string): FoundMatter => ({
      id: `reader-${mover}`,
      level: 'fault',
      title,
      text,
      since: own[0]!.seen ?? deps.clock.now(),
      action: link('See the movers', '/runs/movers'),
      second: null,
    });
    if (!present.has(mover))
      return [
        matter(`${mover} does not answer, which alone reads ${sources}`, 'What is due there waits until it does. Start it on its host.'),
      ];
    if (readers.has(mover) && !deps.movers.someReceives())
      return [
        matter(
          `Nobody takes what ${mover} reads`,
          `It reads ${sources} and keeps nothing. Start a mover that keeps with --receive and an address at which ${mover} reaches it.`,
        ),
      ];
    return [];
  });
}
