import os from 'node:os';
import koffi from 'koffi';

/** Where two names mean the same number, the first one in the alphabet. */
const codes = new Map(
  Object.entries(os.constants.errno)
    .map(([code, number]) => [number, code] as const)
    .sort(([, a], [, b]) => (a < b ? 1 : -1)),
);

/** What a call of the C library failed with. */
export class PosixError extends Error {
  constructor(
    readonly code: string,
    call: string,
  ) {
    super(`${call}: ${code}`);
  }
}

/** Code of the last failure in this thread, as the system names it. */
export function lastCode(): string {
  const number = koffi.errno();
  return codes.get(number) ?? `errno ${number}`;
}

/** The last failure in this thread as an error. */
export function failed(call: string): PosixError {
  return new PosixError(lastCode(), call);
}
