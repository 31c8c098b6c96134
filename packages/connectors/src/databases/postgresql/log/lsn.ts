import { SourceError } from '../../../source-error';

const perFile = 2 ** 32;

/** A place in the log, as the server writes it (two hexadecimal numbers), as a number of bytes. Throws DUMP_UNREADABLE. */
export function placeOf(text: string): number {
  const parts = /^([0-9A-Fa-f]{1,8})\/([0-9A-Fa-f]{1,8})$/.exec(text);
  if (!parts) throw new SourceError('DUMP_UNREADABLE', 'no place in a log');
  return parseInt(parts[1]!, 16) * perFile + parseInt(parts[2]!, 16);
}

/** The same the other way. */
export const placeText = (place: number): string => `${hex(Math.floor(place / perFile))}/${hex(place % perFile)}`;
const hex = (n: number, digits = 1) => n.toString(16).toUpperCase().padStart(digits, '0');

/** Where the segment begins that a place lies in. */
export const segmentStart = (place: number, size: number): number => Math.floor(place / size) * size;

/** Name of the segment that a place lies in: timeline, and a number of two parts. */
export function segmentName(timeline: number, place: number, size: number): string {
  const number = Math.floor(place / size);
  const each = perFile / size;
  return hex(timeline, 8) + hex(Math.floor(number / each), 8) + hex(number % each, 8);
}

/** Names of the segments between two places, both included. */
export function segmentsBetween(timeline: number, from: number, to: number, size: number): string[] {
  const names: string[] = [];
  for (let at = segmentStart(from, size); at <= to; at += size) names.push(segmentName(timeline, at, size));
  return names;
}
