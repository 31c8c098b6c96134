import { IANAZone, type Zone } from 'luxon';

const stretch = 4 * 86_400_000;

/** A time zone that remembers its offsets: asking the system for one takes longer than all the rest of a date. */
class RememberingZone extends IANAZone {
  private readonly offsets = new Map<number, number>();
  private readonly changes = new Map<number, number>();

  private at(border: number): number {
    const known = this.offsets.get(border) ?? super.offset(border * stretch);
    this.offsets.set(border, known);
    return known;
  }

  /** Minutes by which the zone is ahead of UTC at an instant (ms). No zone changes its clocks twice within four days. */
  override offset(instant: number): number {
    const border = Math.floor(instant / stretch);
    const before = this.at(border);
    const after = this.at(border + 1);
    if (before === after) return before;
    const change = this.changes.get(border) ?? this.changeIn(border, before);
    this.changes.set(border, change);
    return instant < change ? before : after;
  }

  /** The instant in a stretch at which the offset is no longer `before`. */
  private changeIn(border: number, before: number): number {
    let low = border * stretch;
    let high = low + stretch;
    while (high - low > 1) {
      const middle = Math.floor((low + high) / 2);
      if (super.offset(middle) === before) low = middle;
      else high = middle;
    }
    return high;
  }
}

const zones = new Map<string, Zone>();

/** The zone of a name, for many dates. A name that is none gives a zone that is not valid. */
export function zoneOf(name: string): Zone {
  const known = zones.get(name) ?? new RememberingZone(name);
  zones.set(name, known);
  return known;
}
