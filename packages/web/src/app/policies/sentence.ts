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

/** The rule of a policy as one sentence. */
export function ruleSentence(body: PolicyBody, names?: ReadonlyMap<number, string>): string {
  const window = body.window ? `, only from ${body.window.from} to ${body.window.to}` : '';
  const when = `${scheduleWords(body.schedule, names)}${window}`;
  const long = longTermWords(body.keep);
  return `${when.charAt(0).toUpperCase()}${when.slice(1)}, ${body.kind === 'incremental' ? 'an' : 'a'} ${body.kind}, kept ${body.keep.by === 'hand' ? '' : 'for '}${keepWords(body.keep)}${long && `, beyond that ${long}`}${body.synthetic ? `, a full put together every ${body.synthetic}` : ''}${body.lockDays ? `, locked for ${countOf(body.lockDays, 'day')}` : ''}`;
}
