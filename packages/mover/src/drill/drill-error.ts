/** A drill that did not pass: what it says is why. */
export class DrillError extends Error {
  readonly code = 'DRILL_FAILED';
}
