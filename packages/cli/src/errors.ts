/** Errors of the command line by stable code, with the exit status of the process. */
export const cliErrors = {
  /** What was typed can not be meant. */
  USAGE: 2,
  NO_PROFILE: 2,
  /** No such thing, or several that could be meant. */
  NOT_FOUND: 1,
  AMBIGUOUS: 1,
  /** The server said no; its own code is told. */
  REFUSED: 1,
  UNREACHABLE: 1,
  /** The server answered what its contract does not say. */
  NOT_UNDERSTOOD: 1,
  /** A person said no, or nobody was there to be asked. */
  CANCELLED: 1,
} as const;
export type CliErrorCode = keyof typeof cliErrors;

export class CliError extends Error {
  readonly status: number;
  constructor(
    readonly code: CliErrorCode,
    message: string,
    /** Code of the server, where it said no. */
    readonly refusal?: string,
  ) {
    super(message);
    this.status = cliErrors[code];
  }
}
