import type { PolicyRule } from '@lithodex/contract';
import type { SlotOption } from '../ui/slot';

type Keep = PolicyRule['keep'];

/** How long points may be kept, as choices of a slot. */
export const keepChoices: SlotOption<string>[] = [
  ...[7, 14, 21, 30, 60, 90, 365].map((n) => ({ value: `days ${n}`, label: `${n} days` })),
  ...[5, 10, 30, 100].map((n) => ({ value: `points ${n}`, label: `${n} points` })),
  { value: 'hand', label: 'until a person removes it' },
];

/** The choice that stands for a keep. */
export function choiceOf(k: Keep): string {
  return k.by === 'days' ? `days ${k.days}` : k.by === 'points' ? `points ${k.points}` : 'hand';
}

/** Inverse of {@link choiceOf}. */
export function keepOfChoice(value: string): Keep {
  const [by, n] = value.split(' ');
  return by === 'days' ? { by, days: Number(n) } : by === 'points' ? { by, points: Number(n) } : { by: 'hand' };
}

/** "45 days" or "12 points", as typed; undefined for anything else. */
export function keepTyped(text: string): Keep | undefined {
  const match = /^(\d+)\s*(d|p)/i.exec(text);
  const n = Number(match?.[1]);
  return match && n > 0 ? keepOfChoice(`${match[2]!.toLowerCase() === 'd' ? 'days' : 'points'} ${n}`) : undefined;
}

/** A retention with the long-term points of the one before it. */
export function withLongTerm(keep: Keep, before: Keep | undefined): Keep {
  const longTerm = before && before.by !== 'hand' ? before.longTerm : undefined;
  return keep.by === 'hand' || !longTerm ? keep : { ...keep, longTerm };
}
