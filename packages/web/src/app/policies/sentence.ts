import type { PolicyBody } from '@lithodex/contract';
import { countOf } from '@lithodex/core';

export const weekdays = ['Monday', 'Tuesday', 'Wednesday', 'Thursday', 'Friday', 'Saturday', 'Sunday'];

export const nths = ['first', 'second', 'third', 'fourth', 'last'];

/** "the last day", "day 12", "the second Tuesday". */
export function monthDayWords(on: Extract<PolicyBody['schedule'], { every: 'month' }>['on']): string {
  if ('day' in on) return on.day === 31 ? 'the last day' : `day ${on.day}${on.day > 28 ? ' (or the last)' : ''}`;
  return `the ${nths[on.nth - 1]} ${weekdays[on.weekday - 1]}`;
}

/** When a policy runs. `names` tells the names of policies by id, for one that follows another. */
export function scheduleWords(s: PolicyBody['schedule'], names: ReadonlyMap<number, string> = new Map()): string {
  switch (s.every) {
    case 'day':
      return `every day at ${s.at}`;
    case 'week':
      return `every ${s.days.map((d) => weekdays[d - 1]).join(', ')} at ${s.at}`;
    case 'hours':
      return `every ${s.hours === 1 ? 'hour' : `${s.hours} hours`} from ${s.at}`;
    case 'month':
      return `every month on ${monthDayWords(s.on)} at ${s.at}`;
    case 'minutes':
      return `every ${s.minutes} minutes`;
    case 'after':
      return `after ${names.get(s.policyId) ?? 'a policy that is not in force'}`;
    case 'hand':
      return 'by hand';
  }
}

/** "8 weekly and 12 monthly points"; '' for none. */
export function longTermWords(k: PolicyBody['keep']): string {
  const rule = k.by === 'hand' ? undefined : k.longTerm;
  const kinds = [rule?.weeks && `${rule.weeks} weekly`, rule?.months && `${rule.months} monthly`, rule?.years && `${rule.years} yearly`];
  const said = kinds.filter(Boolean);
  return said.length ? `${said.slice(0, -1).join(', ')}${said.length > 1 ? ' and ' : ''}${said.at(-1)} points` : '';
}

export function keepWords(k: PolicyBody['keep']): string {
  return k.by === 'days' ? countOf(k.days, 'day') : k.by === 'points' ? countOf(k.points, 'point') : 'until a person removes it';
}

/** "Copy every new point to north-store, kept for 30 days". */
function copyWords(copy: PolicyBody['copies'][number], targetName: (id: string) => string): string {
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

/** What a policy says, field by field, in words: label, and one or several values. */
function saidBy(body: PolicyBody, names: PolicyNames): [label: string, values: string[]][] {
  const targetName = (id: string) => names.targets.get(id) ?? 'a target that is gone';
  const { window, retries, keep } = body;
  const one = (text: string) => (text ? [text] : []);
  return [
    ['name', [body.name]],
    ['workloads', body.workloads.map((id) => names.workloads.get(id) ?? `workload ${id}`)],
    ['tags', body.tags],
    ['rule', one(body.rule)],
    ['but nothing that fits', one(body.except)],
    ['kind', [body.kind]],
    ['full put together', one(body.synthetic ? `every ${body.synthetic}` : '')],
    ['runs', [scheduleWords(body.schedule, names.policies)]],
    ['zone', [body.zone]],
    ['window', one(window ? `${window.from} to ${window.to}${window.stop ? ', then cut off' : ''}` : '')],
    ['closed days', body.closed],
    ['retries', one(retries.times ? `${retries.times}, ${countOf(retries.pauseMinutes, 'minute')} apart` : '')],
    ['missed runs', [body.catchUp ? 'made good' : 'left out']],
    ['goes', [body.priority]],
    ['kept', [keepWords(keep)]],
    ['long-term', one(longTermWords(keep))],
    ['target', [targetName(body.targetId)]],
    ['locked', one(body.lockDays ? countOf(body.lockDays, 'day') : '')],
    ['copies', body.copies.map((c) => copyWords(c, targetName))],
    ['takes only', body.include],
    ['leaves out', body.exclude],
    ['script before', one(scriptWords(body.scripts, 'before'))],
    ['script after', one(scriptWords(body.scripts, 'after'))],
    ['newest point at most', [`${body.objectiveHours} h old`]],
    ['change limit', [`${body.changeLimit} %`]],
  ];
}

/** What is different in words, a line for each field: "kept: 14 days → 21 days", "tags: + gates − test". */
export function policyDifferences(before: PolicyBody, after: PolicyBody, names: PolicyNames): string[] {
  const was = new Map(saidBy(before, names));
  return saidBy(after, names).flatMap(([label, values]) => {
    const earlier = was.get(label)!;
    const gone = earlier.filter((v) => !values.includes(v));
    const fresh = values.filter((v) => !earlier.includes(v));
    if (!gone.length && !fresh.length) return [];
    if (gone.length === 1 && fresh.length === 1 && values.length === 1) return [`${label}: ${gone[0]} → ${fresh[0]}`];
    return [`${label}: ${[...fresh.map((v) => `+ ${v}`), ...gone.map((v) => `− ${v}`)].join(', ')}`];
  });
}

/** The rule of a policy as one sentence. */
export function ruleSentence(body: PolicyBody, names?: ReadonlyMap<number, string>): string {
  const window = body.window ? `, only from ${body.window.from} to ${body.window.to}` : '';
  const when = `${scheduleWords(body.schedule, names)}${window}`;
  const long = longTermWords(body.keep);
  return `${when.charAt(0).toUpperCase()}${when.slice(1)}, ${body.kind === 'incremental' ? 'an' : 'a'} ${body.kind}, kept ${body.keep.by === 'hand' ? '' : 'for '}${keepWords(body.keep)}${long && `, beyond that ${long}`}${body.synthetic ? `, a full put together every ${body.synthetic}` : ''}${body.lockDays ? `, locked for ${countOf(body.lockDays, 'day')}` : ''}`;
}
