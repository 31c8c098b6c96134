import { DateTime } from 'luxon';
import { zoneOf } from './zone';

/** Hours of the day between which no more than so many bytes travel in a second. Wall-clock times, HH:MM; `to` at or before `from` is on the next day, the same time means all day. */
export interface PaceWindow {
  readonly from: string;
  readonly to: string;
  /** Bytes. */
  readonly perSecond: number;
}

const minutesOf = (at: string) => Number(at.slice(0, 2)) * 60 + Number(at.slice(3));

/** Bytes a second that are allowed at an instant (ms): the least of the windows it lies in; undefined when there is no limit then. */
export function paceAt(windows: readonly PaceWindow[], instant: number, zone: string): number | undefined {
  const { hour, minute } = DateTime.fromMillis(instant, { zone: zoneOf(zone) });
  const now = hour * 60 + minute;
  const within = ({ from, to }: PaceWindow) => {
    const [start, end] = [minutesOf(from), minutesOf(to)];
    return start < end ? now >= start && now < end : now >= start || now < end;
  };
  const paces = windows.filter(within).map((w) => w.perSecond);
  return paces.length ? Math.min(...paces) : undefined;
}
