import { ServiceError } from './service-error';

/** What can be made to go wrong. */
export interface Switches {
  /** Time each request waits before it is looked at, ms. */
  readonly latencyMs: number;
  /** Each request of this number is answered with "slow down"; 0 for none. */
  readonly refuseEvery: number;
  /** Every request is answered with "unavailable". */
  readonly down: boolean;
  /** Bytes after which there is no room; null for no end. */
  readonly fullAt: number | null;
  /** Conditions of writes are ignored, as services without them do. */
  readonly ignoreConditions: boolean;
}

export const allFine: Switches = { latencyMs: 0, refuseEvery: 0, down: false, fullAt: null, ignoreConditions: false };

/** Waits and refuses as the switches say. */
export async function suffer(
  switches: Switches,
  request: { readonly number: number; readonly writes: boolean },
  used: () => number,
): Promise<void> {
  if (switches.latencyMs) await new Promise((resume) => setTimeout(resume, switches.latencyMs));
  if (switches.down) throw new ServiceError('ServiceUnavailable');
  if (switches.refuseEvery && request.number % switches.refuseEvery === 0) throw new ServiceError('SlowDown');
  if (request.writes && switches.fullAt !== null && used() >= switches.fullAt) throw new ServiceError('InsufficientStorage');
}
