import ical from 'ical-generator';
import { DateTime } from 'luxon';
import { countOf, formatList } from '@lithodex/core';
import type { PolicyRule, RunCalendar } from '@lithodex/contract';
import type { Deps } from '../../acts/deps';
import { ApiError } from '../../base/errors';
import { policiesInForce } from '../../records/policies/matching';
import { matchesShown } from '../../acts/estate/matching-shown';
import { allStartsBetween, isContinuous } from '../../records/policies/timetable';
import { runStateOf } from '../../records/runs/run-state';
import { pastRuns, type PastRuns } from './past-runs';

const dayMs = 86_400_000;
/** A calendar shows at most so many days at once. */
const mostDays = 62;
const feedDays = 60;
/** Runs that come more often are one event a day. */
const fewRuns = 4;

interface Coming {
  readonly policyId: number;
  readonly name: string;
  readonly follows: string;
  readonly workloads: number;
  readonly at: readonly number[];
  readonly closed: readonly string[];
  readonly continuous: boolean;
}

async function coming(deps: Deps, from: number, to: number): Promise<Coming[]> {
  const policies = await policiesInForce(deps.db);
  return Promise.all(
    policies.map(async ({ id, name, body, timetables }) => {
      const first = ({ schedule }: PolicyRule) =>
        schedule.every === 'after' ? (policies.find((p) => p.id === schedule.policyId)?.name ?? []) : [];
      return {
        policyId: id,
        name,
        follows: formatList([...new Set(body.rules.flatMap(first))]),
        workloads: (await matchesShown(deps, body)).length,
        continuous: timetables.some(isContinuous),
        at: allStartsBetween(body, timetables, from, to),
        closed: [...new Set(timetables.flatMap((t) => t.closed ?? []))],
      };
    }),
  );
}

const localDate = (at: number, zone: string) => DateTime.fromMillis(at, { zone }).toFormat('yyyy-MM-dd');

/** Instants by their local date. */
function byDate(at: readonly number[], zone: string): Map<string, number[]> {
  const days = new Map<string, number[]>();
  for (const t of at) {
    const date = localDate(t, zone);
    const own = days.get(date);
    if (own) own.push(t);
    else days.set(date, [t]);
  }
  return days;
}

type DayRun = RunCalendar['days'][number]['runs'][number];

/** One entry a day for each policy, for what was. */
function daysOfPast(runs: readonly PastRuns[], zone: string): Map<string, DayRun[]> {
  const days = new Map<string, DayRun[]>();
  for (const { policyId, name, first, count, workloads, state, newest } of runs) {
    const date = localDate(first, zone);
    const own = days.get(date) ?? days.set(date, []).get(date)!;
    const met = own.find((r) => r.policyId === policyId);
    if (!met?.was) own.push({ policyId, name, first, count, workloads, follows: '', continuous: false, was: { state, runId: newest } });
    else {
      met.count += count;
      met.workloads = Math.max(met.workloads, workloads);
      met.was = { state: runStateOf([met.was.state, state]), runId: newest };
    }
  }
  return days;
}

/** The runs of [from, to] by local day: as they were up to now, as policies in force have them from now on. Throws INVALID for more than two months. */
export async function runCalendar(deps: Deps, from: number, to: number): Promise<RunCalendar> {
  if (!(to > from && to - from <= mostDays * dayMs))
    throw new ApiError('INVALID', [{ at: 'query.to' }], `A calendar covers at most ${mostDays} days, forwards.`);
  const { zone } = deps.config;
  const now = deps.clock.now();
  const past = daysOfPast(from < now ? await pastRuns(deps.db, from, Math.min(to, now)) : [], zone);
  const ahead = Math.max(from - 1, now);
  const policies = (to > ahead ? await coming(deps, ahead, to) : []).map((p) => ({ ...p, days: byDate(p.at, zone) }));
  const days: RunCalendar['days'] = [];
  const [today, last] = [localDate(now, zone), localDate(to, zone)];
  for (let day = DateTime.fromMillis(from, { zone }); ; day = day.plus({ days: 1 })) {
    const date = day.toFormat('yyyy-MM-dd');
    const next = policies.flatMap(({ days: own, policyId, name, workloads, follows, continuous }): DayRun[] => {
      const at = own.get(date);
      return at ? [{ policyId, name, first: at[0]!, count: at.length, workloads, follows, continuous, was: null }] : [];
    });
    const closes = (p: Coming) => date >= today && (p.closed.includes(date) || p.closed.includes(date.slice(5)));
    const closed = policies.filter(closes).map((p) => p.name);
    days.push({ date, closed, runs: [...(past.get(date) ?? []), ...next].sort((x, y) => x.first - y.first) });
    if (date >= last) break;
  }
  return { zone, days };
}

/** The runs of the next two months for calendar programs (iCalendar, RFC 5545). */
export async function calendarFeed(deps: Deps): Promise<string> {
  const now = deps.clock.now();
  const feed = ical({ name: 'Lithodex runs', prodId: { company: 'Lithodex', product: 'Lithodex' }, ttl: 3600 });
  for (const { policyId, name, at, workloads, follows, continuous } of await coming(deps, now, now + feedDays * dayMs)) {
    for (const [date, runs] of byDate(at, deps.config.zone)) {
      const often = runs.length > fewRuns;
      for (const start of often ? runs.slice(0, 1) : runs)
        feed.createEvent({
          id: `policy-${policyId}-${often ? date : start}@lithodex`,
          start: new Date(start),
          end: new Date(start + 15 * 60_000),
          stamp: new Date(now),
          summary: continuous ? `${name} (all the time)` : often ? `${name} (${runs.length} runs)` : name,
          description: `${countOf(workloads, 'workload')}${follows ? `, after ${follows}` : ''}`,
        });
    }
  }
  return feed.toString();
}
