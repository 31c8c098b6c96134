/** The one source of time for everything a person sees. Leases and sessions run on the machine's own clock. */
export interface Clock {
  /** Milliseconds since the epoch. */
  now(): number;
}

export const systemClock: Clock = { now: () => Date.now() };
