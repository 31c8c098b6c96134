/** What the services of the office stand-in do otherwise than they should, until it is switched back. */
export interface TenantSwitches {
  /** Every answer takes so long, ms. */
  slowMs: number;
  /** So many of the next questions are answered with 429 and `Retry-After: 1`. */
  throttled: number;
  /** Sign-in is refused, as if what opens it had expired. */
  refused: boolean;
  /** Nothing more is taken. */
  full: boolean;
  /** Answers 500. */
  broken: boolean;
}

export const tenantFine: TenantSwitches = { slowMs: 0, throttled: 0, refused: false, full: false, broken: false };
