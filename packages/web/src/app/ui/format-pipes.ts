import { inject, Pipe, type PipeTransform } from '@angular/core';
import {
  countOf,
  formatBytes,
  formatCount,
  formatDuration,
  formatExact,
  formatMoment,
  formatPrice,
  formatRate,
  formatShare,
} from '@lithodex/core';
import { Session } from '../data/session';

@Pipe({ name: 'bytes' })
export class BytesPipe implements PipeTransform {
  transform(value: number | null | undefined): string {
    return value === null || value === undefined ? '–' : formatBytes(value);
  }
}

/** "3" or, of something named, "1 item", "3 items". */
@Pipe({ name: 'count' })
export class CountPipe implements PipeTransform {
  transform(value: number | null | undefined, one?: string): string {
    if (value === null || value === undefined) return '–';
    return one === undefined ? formatCount(value) : countOf(value, one);
  }
}

/** Permission bits as four octal digits. */
@Pipe({ name: 'octal' })
export class OctalPipe implements PipeTransform {
  transform(mode: number): string {
    return mode.toString(8).padStart(4, '0');
  }
}

@Pipe({ name: 'duration' })
export class DurationPipe implements PipeTransform {
  transform(ms: number | null | undefined): string {
    return ms === null || ms === undefined ? '–' : formatDuration(ms);
  }
}

@Pipe({ name: 'rate' })
export class RatePipe implements PipeTransform {
  transform(value: number | null | undefined): string {
    return value ? formatRate(value) : '–';
  }
}

@Pipe({ name: 'share' })
export class SharePipe implements PipeTransform {
  transform(value: number): string {
    return formatShare(value);
  }
}

/** "Sun 22 Nov 22:00" in the installation's zone. */
@Pipe({ name: 'moment' })
export class MomentPipe implements PipeTransform {
  private readonly session = inject(Session);
  transform(at: number | null | undefined): string {
    return at === null || at === undefined ? '–' : formatMoment(at, this.session.zone(), this.session.now());
  }
}

/** Full date, seconds and zone, for hovers. */
@Pipe({ name: 'exact' })
export class ExactPipe implements PipeTransform {
  private readonly session = inject(Session);
  transform(at: number | null | undefined): string {
    return at === null || at === undefined ? '' : formatExact(at, this.session.zone());
  }
}

/** How long ago, as "3 h 20 min ago". */
@Pipe({ name: 'ago' })
export class AgoPipe implements PipeTransform {
  private readonly session = inject(Session);
  transform(at: number | null | undefined): string {
    if (at === null || at === undefined) return 'never';
    const age = this.session.now() - at;
    return age < 5000 ? 'just now' : `${formatDuration(age)} ago`;
  }
}

/** Modification time from nanoseconds. */
@Pipe({ name: 'mtime' })
export class MtimePipe implements PipeTransform {
  private readonly session = inject(Session);
  transform(ns: string): string {
    return formatMoment(Number(BigInt(ns) / 1_000_000n), this.session.zone(), this.session.now());
  }
}

/** An amount with its currency. */
@Pipe({ name: 'price' })
export class PricePipe implements PipeTransform {
  transform(amount: number, currency: string): string {
    return formatPrice(amount, currency);
  }
}

export const formatPipes = [
  PricePipe,
  BytesPipe,
  CountPipe,
  OctalPipe,
  DurationPipe,
  RatePipe,
  SharePipe,
  MomentPipe,
  ExactPipe,
  AgoPipe,
  MtimePipe,
] as const;
