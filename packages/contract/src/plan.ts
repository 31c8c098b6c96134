import { z } from 'zod';
import { Count, Id, Instant, QueryInstant } from './common';
import { RunState } from './run-state';

/** How the work of some hours comes out. */
export const FitOutcome = z.object({
  /** When the last of it ends; null when nothing runs. */
  ends: Instant.nullable(),
  /** Tasks that do not start in their window, or are cut off by it. */
  missed: Count,
});

/** How the next hours will go, by a simulation of the queue from the times that tasks took. */
export const NightFit = FitOutcome.extend({
  from: Instant,
  to: Instant,
  movers: Count,
  tasks: Count,
  /** Tasks whose time is guessed from that of others, as they have not run yet. */
  guessed: Count,
  policies: z.array(z.object({ id: Id, name: z.string(), tasks: Count, starts: Instant, ends: Instant.nullable(), missed: Count })),
  changes: z.array(FitOutcome.extend({ text: z.string() })),
  /** The same simulation of the night that was, beside how it went. */
  before: z.object({ from: Instant, foretold: Instant, ended: Instant, tasks: Count }).nullable(),
});
export type NightFit = z.infer<typeof NightFit>;

export const CalendarQuery = z.object({ from: QueryInstant, to: QueryInstant });
/** Runs by local day of the installation's zone: those that were, and those to come. */
export const RunCalendar = z.object({
  zone: z.string(),
  days: z.array(
    z.object({
      /** ISO date. */
      date: z.string(),
      /** Names of policies that do not run as it is one of their closed days. */
      closed: z.array(z.string()),
      runs: z.array(
        z.object({
          policyId: Id,
          name: z.string(),
          first: Instant,
          count: Count,
          workloads: Count,
          /** Policies that this one waits for, where that is why it runs. */
          follows: z.string(),
          /** Begins again all the time, so that `count` is the most there can be. */
          continuous: z.boolean(),
          /** How runs that were went, the worst of them, with the newest; null for what is to come. */
          was: z.object({ state: RunState, runId: Id }).nullable(),
        }),
      ),
    }),
  ),
});
export type RunCalendar = z.infer<typeof RunCalendar>;
