import type { CopyRule, PolicyBody, PolicyRule } from '@lithodex/contract';
import { countOf, formatDuration, formatList } from '@lithodex/core';
import { partsWords } from '../kinds/tenant-words';

export const weekdays = ['Monday', 'Tuesday', 'Wednesday', 'Thursday', 'Friday', 'Saturday', 'Sunday'];

export const nths = ['first', 'second', 'third', 'fourth', 'last'];

/** "the last day", "day 12", "the second Tuesday". */
export function monthDayWords(on: Extract<PolicyRule['schedule'], { every: 'month' }>['on']): string {
  if ('day' in on) return on.day === 31 ? 'the last day' : `day ${on.day}${on.day > 28 ? ' (or the last)' : ''}`;
  return `the ${nths[on.nth - 1]} ${weekdays[on.weekday - 1]}`;
}

/** When a policy runs. `names` tells the names of policies by id, for one that follows another. */
export function scheduleWords(s: PolicyRule['schedule'], names: ReadonlyMap<number, string> = new Map()): string {
  switch (s.every) {
    case 'day':
      return `every day at ${s.at}`;
    case 'week':
      return `every ${formatList(s.days.map((d) => weekdays[d - 1]!))} at ${s.at}`;
    case 'hours':
      return `every ${s.hours === 1 ? 'hour' : `${s.hours} hours`} from ${s.at}`;
    case 'month':
      return `every month on ${monthDayWords(s.on)} at ${s.at}`;
    case 'minutes':
      return s.minutes === 1 ? 'every minute' : `every ${s.minutes} minutes`;
    case 'hour':
      return `every hour at ${formatList(s.past.map(String))} past`;
    case 'continuous':
      return `all the time, ${countOf(s.pauseMinutes, 'minute')} after the last run`;
    case 'moment':
      return 'every moment';
    case 'after':
      return `after ${names.get(s.policyId) ?? 'a policy that is not in force'}`;
    case 'hand':
      return 'by hand';
  }
}

/** "8 weekly and 12 monthly points"; '' for none. */
export function longTermWords(k: PolicyRule['keep']): string {
  const rule = k.by === 'hand' ? undefined : k.longTerm;
  const kinds = [rule?.weeks && `${rule.weeks} weekly`, rule?.months && `${rule.months} monthly`, rule?.years && `${rule.years} yearly`];
  const said = kinds.filter((kind) => typeof kind === 'string');
  return said.length ? `${formatList(said)} points` : '';
}

export function keepWords(k: PolicyRule['keep']): string {
  return k.by === 'days' ? countOf(k.days, 'day') : k.by === 'points' ? countOf(k.points, 'point') : 'until a person removes it';
}

/** "Copy every new point to north-store, kept for 30 days". */
function copyWords(copy: CopyRule, targetName: (id: string) => string): string {
  const often = { every: 'every new point', day: 'the newest point once a day', week: 'the newest point once a week' }[copy.rhythm];
  const long = longTermWords(copy.keep);
  return `${often} to ${targetName(copy.targetId)}, kept for ${keepWords(copy.keep)}${long && `, beyond that ${long}`}${copy.lockDays ? `, locked for ${countOf(copy.lockDays, 'day')}` : ''}`;
}

/** Names of what policies speak of by id. */
export interface PolicyNames {
  readonly policies: ReadonlyMap<number, string>;
  readonly workloads: ReadonlyMap<number, string>;
  readonly targets: ReadonlyMap<string, string>;
}

const scriptWords = (scripts: PolicyBody['scripts'], which: 'before' | 'after') =>
  scripts[which] ? `${scripts[which]}, at most ${countOf(scripts.minutes, 'minute')}` : '';

/** What becomes of names inside the disks of machines. */
export const namesInsideWords = (kept: boolean): string =>
  kept ? 'kept with each point, for search and comparison' : 'read when somebody looks';

type Said = [label: string, values: string[]];
const one = (text: string) => (text ? [text] : []);

/** How old the newest second of a log may be. */
export const ageWords = (minutes: number | null): string =>
  minutes === null ? 'of any age' : `at most ${formatDuration(minutes * 60_000)} old`;

/** What a rule says. `of`: what is put before each label where there are several rules. */
function saidByRule(rule: PolicyRule, of: string, names: PolicyNames): Said[] {
  const targetName = (id: string) => names.targets.get(id) ?? 'a target that is gone';
  const said: Said[] = [
    ['kind', [rule.kind]],
    ['read of people and sites', one(rule.parts.length ? partsWords(rule.parts) : '')],
    ['full put together', one(rule.synthetic ? `every ${rule.synthetic}` : '')],
    ['runs', [scheduleWords(rule.schedule, names.policies)]],
    ['kept', [keepWords(rule.keep)]],
    ['long-term', one(longTermWords(rule.keep))],
    ['target', [targetName(rule.targetId)]],
    ['newest second', one(rule.objectiveMinutes ? ageWords(rule.objectiveMinutes) : '')],
    ['locked', one(rule.lockDays ? countOf(rule.lockDays, 'day') : '')],
    ['copies', rule.copies.map((c) => copyWords(c, targetName))],
  ];
  return said.map(([label, values]) => [`${of}${label}`, values]);
}

/** What a policy says, field by field, in words: label, and one or several values. */
function saidBy(body: PolicyBody, names: PolicyNames): Said[] {
  const { window, retries, rules } = body;
  return [
    ['name', [body.name]],
    ['workloads', body.workloads.map((id) => names.workloads.get(id) ?? `workload ${id}`)],
    ['tags', body.tags],
    ['rule', one(body.rule)],
    ['but nothing that fits', one(body.except)],
    ...rules.slice(0, 1).flatMap((r) => saidByRule(r, '', names)),
    ['further rules', rules.slice(1).map((r) => `rule ${r.no}`)],
    ...rules.slice(1).flatMap((r) => saidByRule(r, `rule ${r.no}, `, names)),
    ['zone', [body.zone]],
    ['window', one(window ? `${window.from} to ${window.to}${window.stop ? ', then cut off' : ''}` : '')],
    ['closed days', body.closed],
    ['retries', one(retries.times ? `${retries.times}, ${countOf(retries.pauseMinutes, 'minute')} apart` : '')],
    ['missed runs', [body.catchUp ? 'made good' : 'left out']],
    ['goes', [body.priority]],
    ['takes only', body.include],
    ['leaves out', body.exclude],
    ['script before', one(scriptWords(body.scripts, 'before'))],
    ['script after', one(scriptWords(body.scripts, 'after'))],
    ['names inside disks', [namesInsideWords(body.namesInside)]],
    ['newest point at most', [`${body.objectiveHours} h old`]],
    ['change limit', [`${body.changeLimit} %`]],
  ];
}

/** What is different in words, a line for each field: "kept: 14 days → 21 days", "tags: + gates − test". */
export function policyDifferences(before: PolicyBody, after: PolicyBody, names: PolicyNames): string[] {
  const was = new Map(saidBy(before, names));
  const is = new Map(saidBy(after, names));
  return [...new Set([...is.keys(), ...was.keys()])].flatMap((label) => {
    const [earlier, values] = [was.get(label), is.get(label)];
    // of a rule that came or went, that it did is said already
    if (!earlier || !values) return [];
    const gone = earlier.filter((v) => !values.includes(v));
    const fresh = values.filter((v) => !earlier.includes(v));
    if (!gone.length && !fresh.length) return [];
    if (gone.length === 1 && fresh.length === 1 && values.length === 1) return [`${label}: ${gone[0]} → ${fresh[0]}`];
    return [`${label}: ${[...fresh.map((v) => `+ ${v}`), ...gone.map((v) => `− ${v}`)].join(', ')}`];
  });
}

/** A rule of a policy as one sentence. */
export function ruleSentence(rule: PolicyRule, names?: ReadonlyMap<number, string>): string {
  const when = scheduleWords(rule.schedule, names);
  const long = longTermWords(rule.keep);
  return `${when.charAt(0).toUpperCase()}${when.slice(1)}, ${rule.kind === 'incremental' ? 'an' : 'a'} ${rule.kind}, kept ${rule.keep.by === 'hand' ? '' : 'for '}${keepWords(rule.keep)}${long && `, beyond that ${long}`}${rule.synthetic ? `, a full put together every ${rule.synthetic}` : ''}${rule.lockDays ? `, locked for ${countOf(rule.lockDays, 'day')}` : ''}`;
}

/** The rules of a policy, a sentence each. */
export function ruleSentences({ rules, window }: PolicyBody, names?: ReadonlyMap<number, string>): string[] {
  const hours = window ? `, only from ${window.from} to ${window.to}` : '';
  return rules.map((rule) => `${ruleSentence(rule, names)}${hours}`);
}
