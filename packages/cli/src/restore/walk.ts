import type { Point, TreeRow, WorkloadDetail } from '@lithodex/contract';
import { formatBytes } from '@lithodex/core';
import { CliError } from '../errors';
import type { Io } from '../io';
import { atOf, instantOf } from '../moments';
import { workloadNamed } from '../names';
import { harmless, table } from '../table';
import { keyOf, pointAt, type Picked } from './picked';

const mostListed = 500;

/** A path from where one stands: "..", ".", from the root with "/". Never above the root. */
export function pathFrom(at: string, word: string): string {
  const parts = word.startsWith('/') ? [] : at.split('/').filter(Boolean);
  for (const part of word.split('/')) {
    if (part === '..') parts.pop();
    else if (part !== '' && part !== '.') parts.push(part);
  }
  return parts.join('/');
}

/** Words of a line, as a shell takes them: quotes hold spaces together, a backslash takes what follows as it is. */
export function wordsOf(line: string): string[] {
  return [...line.matchAll(/"((?:[^"\\]|\\.)*)"|'([^']*)'|((?:[^\s"'\\]|\\.)+)/g)].map(
    ([, double, single, bare]) => single ?? (double ?? bare ?? '').replaceAll(/\\([\s"'\\])/g, '$1'),
  );
}

/** What is ticked on a walk through points. */
export class Walk {
  private readonly ticks = new Map<string, Picked>();
  private point: Point | undefined;
  private name = '';
  private folder = '';
  private listed: readonly TreeRow[] = [];
  private found: readonly Picked[] = [];

  constructor(
    private readonly io: Io,
    picks: readonly Picked[] = [],
  ) {
    for (const pick of picks) this.ticks.set(keyOf(pick), pick);
  }

  get picks(): readonly Picked[] {
    return [...this.ticks.values()];
  }

  /** Where one stands, for the prompt. */
  get place(): string {
    return this.point ? `${this.name} @ ${atOf(this.point.moment, this.io.zone)} /${this.folder}` : 'no point is open';
  }

  /** Names that a word may be completed to. */
  get names(): string[] {
    return this.listed.map((r) => (r.kind === 'directory' ? `${r.name}/` : r.name));
  }

  /** Opens a point of a workload: the newest, or that of a moment. Throws NOT_FOUND, USAGE. */
  async open(workload: string | WorkloadDetail, moment?: string): Promise<void> {
    const w =
      typeof workload === 'string'
        ? await this.io.server.call('workload', { id: (await workloadNamed(this.io.server, workload)).id })
        : workload;
    this.point = pointAt(w, moment === undefined ? undefined : instantOf(moment, this.io.zone, Date.now(), true));
    this.name = w.name;
    this.folder = '';
    this.listed = [];
  }

  private get opened(): Point {
    if (!this.point) throw new CliError('USAGE', 'Open a point first: open WORKLOAD [MOMENT].');
    return this.point;
  }

  private async rowsIn(path: string): Promise<TreeRow[]> {
    const rows: TreeRow[] = [];
    for (let cursor: string | undefined; ;) {
      const page = await this.io.server.call('tree', { id: this.opened.id, query: { path, cursor, limit: mostListed } });
      rows.push(...page.rows);
      if (page.next === null || rows.length >= 20 * mostListed) return rows;
      cursor = page.next;
    }
  }

  /** What is in a folder, with what is ticked. */
  async list(word = ''): Promise<string> {
    const path = pathFrom(this.folder, word);
    const rows = await this.rowsIn(path);
    if (path === this.folder) this.listed = rows;
    return table(
      ['', 'Name', '>Size', 'Kind', 'Since then'],
      rows.map((r) => [
        this.isTicked(r.path) ? '[x]' : '[ ]',
        r.kind === 'directory' || r.opens ? `${r.name}/` : r.name,
        formatBytes(r.size),
        r.kind,
        r.since,
      ]),
      'It is empty.',
    );
  }

  /** Goes to a folder. Throws NOT_FOUND. */
  async go(word = '/'): Promise<void> {
    const path = pathFrom(this.folder, word);
    if (path !== '') {
      const row = (await this.rowsIn(pathFrom(path, '..'))).find((r) => r.path === path);
      if (!row) throw new CliError('NOT_FOUND', `There is no /${harmless(path)} here.`);
      if (row.kind !== 'directory' && !row.opens && row.items <= 1 && !(await this.rowsIn(path)).length)
        throw new CliError('NOT_FOUND', `/${harmless(path)} is no folder.`);
    }
    this.folder = path;
    this.listed = await this.rowsIn(path);
  }

  /** Finds items of the workload by name; they are told with numbers, by which they are ticked. */
  async find(text: string): Promise<string> {
    const { rows } = await this.io.server.call('search', { query: { q: text, workload: this.opened.workloadId, limit: 50 } });
    this.found = rows.map((f) => ({ pointId: f.lastPointId, path: f.path, workload: f.workload.name, moment: f.lastSeen }));
    return table(
      ['>No', 'Path', '>Size', 'Last seen', ''],
      rows.map((r, i) => [String(i + 1), r.path, formatBytes(r.size), atOf(r.lastSeen, this.io.zone), r.stillThere ? '' : 'gone']),
      'Nothing of that name.',
    );
  }

  private isTicked(path: string): boolean {
    const parts = path.split('/');
    return (
      parts.some((_, i) => this.ticks.has(keyOf({ pointId: this.opened.id, path: parts.slice(0, i + 1).join('/') }))) ||
      this.ticks.has(keyOf({ pointId: this.opened.id, path: '' }))
    );
  }

  private async meant(word: string): Promise<Picked[]> {
    const number = /^\d+$/.test(word) ? this.found[Number(word) - 1] : undefined;
    if (number) return [number];
    const { id: pointId, moment } = this.opened;
    const of = (path: string): Picked => ({ pointId, path, workload: this.name, moment });
    if (word === '*') return (await this.rowsIn(this.folder)).map((r) => of(r.path));
    const path = pathFrom(this.folder, word);
    if (path !== '' && !(await this.rowsIn(pathFrom(path, '..'))).some((r) => r.path === path))
      throw new CliError('NOT_FOUND', `There is no /${harmless(path)} here.`);
    return [of(path)];
  }

  /** Ticks: a path, "*" for all that is here, "." for this folder, or a number of what was found. Throws NOT_FOUND. */
  async tick(words: readonly string[]): Promise<number> {
    for (const word of words.length ? words : ['.']) for (const pick of await this.meant(word)) this.ticks.set(keyOf(pick), pick);
    return this.ticks.size;
  }

  /** Takes ticks away, all with "all". */
  async untick(words: readonly string[]): Promise<number> {
    if (words[0] === 'all') this.ticks.clear();
    else for (const word of words) for (const pick of await this.meant(word)) this.ticks.delete(keyOf(pick));
    return this.ticks.size;
  }

  ticked(): string {
    return table(
      ['Workload', 'As of', 'Path'],
      this.picks.map((p) => [p.workload, atOf(p.moment, this.io.zone), p.path === '' ? 'everything' : `/${p.path}`]),
      'Nothing is ticked.',
    );
  }
}
