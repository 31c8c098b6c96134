import type { StandingBody } from '@lithodex/contract';
import type { Timetable } from '@lithodex/core';
import { fromJson, fromJsonOrNull } from '../../base/db/json';

/** A restore that is repeated, as it is kept. */
export interface StandingRecord {
  readonly no: number;
  readonly id: string;
  readonly name: string;
  readonly body: unknown;
  readonly person: string;
  /** ms: what came due until then was begun. */
  readonly due_from: number;
  readonly trouble: string;
  /** What the platform calls the machines that the last time made, by workload. */
  readonly made: unknown;
  /** Moment of the newest point that was brought, by workload. */
  readonly brought: unknown;
  readonly ended: 0 | 1;
}

export const bodyOfStanding = (row: StandingRecord): StandingBody => fromJson<StandingBody>(row.body);

export const madeBefore = (row: StandingRecord): Readonly<Record<string, string>> => fromJsonOrNull<Record<string, string>>(row.made) ?? {};

export const broughtBefore = (row: StandingRecord): Readonly<Record<string, number>> =>
  fromJsonOrNull<Record<string, number>>(row.brought) ?? {};

/** When it takes place by the clock; undefined where newer points are what begins it. */
export function timetableOf({ schedule }: StandingBody, zone: string): Timetable | undefined {
  return schedule.every === 'point' ? undefined : { schedule, zone, closed: [] };
}
