import { hierarchyOf, isIn, parsePath, ruleFields, type RuleField } from '@lithodex/core';
import type { Estate, EstateValues, Query, WorkloadRow } from '@lithodex/contract';
import type { Deps } from '../../acts/deps';
import { selectionFacts } from '../../records/policies/matching';
import { placesOf } from './hierarchies';

const mostNodes = 2000;
const mostTags = 500;
const mostValues = 2000;

/** Workloads that matter: those that are there, and those that are gone but left points. */
const matters = (w: WorkloadRow) => w.gone === null || w.points > 0;

/** A page of the estate, what needs protection first; counts are of all of it. `only`: ids a remit is limited to. */
export async function estateAnswer(deps: Deps, query: Query<'estate'>, only: readonly number[] | null): Promise<Estate> {
  const at = query.at !== undefined && query.at < deps.clock.now() ? query.at : null;
  const known = (await deps.estate.rows(at)).filter((w) => (!only || only.includes(w.id)) && matters(w));
  const present = known.filter((w) => w.gone === null);
  const text = query.q?.toLowerCase();
  const fits = (w: WorkloadRow) =>
    isShown(w, query.show) &&
    (!query.tag || w.tags.includes(query.tag)) &&
    (!text || wordsOf(w).some((t) => t.toLowerCase().includes(text)));
  const { by } = query;
  const fitting = known.filter(fits);
  const nodes = by ? hierarchyOf(fitting.map((w) => ({ places: placesOf(w, by), open: w.coverage === 'none' }))) : [];
  const node = query.in === undefined ? undefined : parsePath(query.in);
  const shown = by && node ? fitting.filter((w) => isIn(placesOf(w, by), node)) : fitting;
  const count = (mark: WorkloadRow['coverage']) => present.filter((w) => w.coverage === mark).length;
  return {
    asOf: at,
    workloads: [...(await deps.estate.shown(shown.slice(query.offset, query.offset + query.limit), at))],
    total: shown.length,
    nodes: nodes.slice(0, mostNodes),
    counts: {
      all: present.length,
      none: count('none'),
      matched: count('matched'),
      protected: count('protected'),
      suspect: count('suspect'),
      late: present.filter((w) => w.late).length,
      gone: known.length - present.length,
    },
    tags: tagCounts(present),
  };
}

function isShown(w: WorkloadRow, show: Query<'estate'>['show']): boolean {
  if (show === 'points') return w.points > 0;
  if (show === 'gone') return w.gone !== null;
  return w.gone === null && (!show || (show === 'late' ? w.late : w.coverage === show));
}

const wordsOf = (w: WorkloadRow) => [
  w.name,
  w.source.name,
  w.source.location,
  ...w.tags,
  ...(w.machine ? [w.machine.host, w.machine.folder, w.machine.cluster] : [w.source.folder]),
];

function tagCounts(rows: readonly WorkloadRow[]): Estate['tags'] {
  const tags = new Map<string, number>();
  for (const w of rows) for (const t of w.tags) tags.set(t, (tags.get(t) ?? 0) + 1);
  return [...tags]
    .map(([name, count]) => ({ name, count }))
    .sort((a, b) => a.name.localeCompare(b.name))
    .slice(0, mostTags);
}

/** What rules and policies can name. */
export async function estateValues(deps: Deps): Promise<EstateValues> {
  const rows = (await deps.estate.rows(null)).filter((w) => w.gone === null);
  const values = Object.fromEntries(ruleFields.map((f) => [f, new Set<string>()])) as Record<RuleField, Set<string>>;
  for (const w of rows) {
    const facts = selectionFacts(w.name, w.kind, w.source, w.machine, w.tags);
    for (const field of ruleFields) for (const value of facts[field]) values[field].add(value);
  }
  const fields = Object.fromEntries(Object.entries(values).map(([f, set]) => [f, [...set].filter(Boolean).sort().slice(0, mostValues)]));
  return { workloads: rows.map(({ id, name, kind, coverage }) => ({ id, name, kind, coverage })), tags: tagCounts(rows), fields };
}
