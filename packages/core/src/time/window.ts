import { DateTime } from 'luxon';
import { instantAt } from './schedule';
import { zoneOf } from './zone';

/** Hours of the day in which runs may start; over midnight where `to` is not after `from`. Wall-clock times. */
export interface RunWindow {
  readonly from: string;
  readonly to: string;
  /** Whether what still runs at its end is stopped. */
  readonly stop: boolean;
}

/** Where an instant lies. */
export interface InWindow {
  readonly open: boolean;
  /** The end of the window it lies in, or of the next one (ms). */
  readonly ends: number;
  /** The beginning of that window (ms): in the past where it is open. */
  readonly begins: number;
}

/** The window an instant (ms) lies in, or the next one. A wall time that is skipped or comes twice is taken as schedules take it. */
export function windowAt({ from, to }: RunWindow, zone: string, at: number): InWindow {
  const [fromHour, fromMinute] = from.split(':').map(Number) as [number, number];
  const [toHour, toMinute] = to.split(':').map(Number) as [number, number];
  const overMidnight = to <= from;
  let day = DateTime.fromMillis(at, { zone: zoneOf(zone) })
    .startOf('day')
    .minus({ days: 1 });
  for (;;) {
    const begins = instantAt(day, fromHour, fromMinute);
    const ends = instantAt(overMidnight ? day.plus({ days: 1 }) : day, toHour, toMinute);
    if (at < ends && begins < ends) return { open: at >= begins, begins, ends };
    day = day.plus({ days: 1 });
  }
}
