import type { FoundMatter, RunState, Watch, WorkloadRow } from '@lithodex/contract';
import type { Deps } from '../deps';
import { presentWorkloads } from '../estate/estate';
import { comingOf, foundMatters } from './matters';
import { newestPerWorkload, nightStart, type NightRow } from './night';

const countWord = (n: number) => ['no', 'one', 'two', 'three', 'four', 'five', 'six', 'seven', 'eight', 'nine'][n] ?? String(n);
const beWord = (n: number) => (n === 1 ? 'is' : 'are');
const capital = (text: string) => text.charAt(0).toUpperCase() + text.slice(1);

/** How the night went, in parts of one sentence. */
export function leadOf(estate: readonly WorkloadRow[], tonight: readonly NightRow[]): Watch['lead'] {
  const newest = newestPerWorkload(tonight);
  const inState = (...states: RunState[]) => newest.filter((t) => states.includes(t.state)).length;
  const parts: Watch['lead']['parts'] = [];
  const add = (tone: Watch['lead']['parts'][number]['tone'], n: number, text: (n: number) => string) => {
    if (n) parts.push({ tone, text: text(n) });
  };
  add('fault', inState('failed'), (n) => `${countWord(n)} failed`);
  add('fault', estate.filter((w) => w.coverage === 'suspect').length, (n) => `${countWord(n)} ${beWord(n)} held for a person`);
  add('warning', inState('partsMissing'), (n) => `${countWord(n)} ${n === 1 ? 'has' : 'have'} parts missing`);
  add('warning', inState('stopped'), (n) => `${countWord(n)} ${n === 1 ? 'was' : 'were'} stopped`);
  add('warning', inState('cutOff'), (n) => `${countWord(n)} ${n === 1 ? 'was' : 'were'} cut off`);
  add('warning', inState('notStarted'), (n) => `${countWord(n)} did not start in time`);
  add(
    'plain',
    estate.filter((w) => w.coverage === 'none').length,
    (n) => `${countWord(n)} ${n === 1 ? 'workload has' : 'workloads have'} no protection at all`,
  );
  if (parts[0]) parts[0] = { ...parts[0], text: capital(parts[0].text) };
  return { protected: inState('done', 'remarks', 'partsMissing'), all: newest.length, parts };
}

/** The morning as it is told to somebody who is not there. */
export async function morningOf(deps: Deps): Promise<{ at: number; lead: Watch['lead']; matters: FoundMatter[]; coming: Watch['coming'] }> {
  const at = deps.clock.now();
  const tonight = await deps.nights.tasks(nightStart(at, deps.config.zone, 1));
  return { at, lead: leadOf(await presentWorkloads(deps), tonight), matters: await foundMatters(deps), coming: await comingOf(deps) };
}
