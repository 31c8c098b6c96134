import { DateTime } from 'luxon';
import { CliError } from './errors';

const forms = ['yyyy-MM-dd HH:mm:ss', 'yyyy-MM-dd HH:mm', "yyyy-MM-dd'T'HH:mm:ss", "yyyy-MM-dd'T'HH:mm", 'yyyy-MM-dd'];
const units: Readonly<Record<string, number>> = { m: 60_000, h: 3_600_000, d: 86_400_000, w: 604_800_000 };

/** An instant in a table, as it can be typed again. */
export const atOf = (instant: number, zone: string): string => DateTime.fromMillis(instant, { zone }).toFormat('yyyy-MM-dd HH:mm');

/** An instant as people type it: "2026-11-30 03:00" in the zone of the installation, with a zone of its own, or "3d" ago. `endOfDay`: a day alone means its end. Throws USAGE. */
export function instantOf(text: string, zone: string, now: number, endOfDay = false): number {
  const ago = /^(\d{1,5})([mhdw])$/.exec(text.trim());
  if (ago) return now - Number(ago[1]) * units[ago[2]!]!;
  for (const form of forms) {
    const read = DateTime.fromFormat(text.trim(), form, { zone });
    if (read.isValid) return (endOfDay && form === 'yyyy-MM-dd' ? read.endOf('day') : read).toMillis();
  }
  const written = DateTime.fromISO(text.trim(), { setZone: true });
  if (written.isValid) return written.toMillis();
  throw new CliError(
    'USAGE',
    `"${text}" is no moment. Write it as "2026-11-30 03:00" (${zone}), with a zone as 2026-11-30T03:00:00+01:00, or as 3d for three days ago.`,
  );
}
