/** What the platform answers when it can't do what it is asked. */
export const platformErrors = {
  SIGN_IN_REFUSED: 401,
  PASSWORD_EXPIRED: 401,
  SESSION_ENDED: 401,
  RIGHT_MISSING: 403,
  NOT_FOUND: 404,
  NAME_TAKEN: 409,
  MACHINE_RUNNING: 409,
  SNAPSHOT_FAILED: 409,
  NOT_ON_THIS_HOST: 409,
  CHANGES_UNKNOWN: 410,
  QUIESCE_FAILED: 409,
  INSIDE_REFUSED: 409,
  MACHINE_OFF: 409,
  DISK_AWAY: 409,
  NOT_COPIED: 409,
  INVALID: 400,
  NO_ROOM: 507,
  DOWN: 503,
} as const;

export class PlatformError extends Error {
  constructor(
    readonly code: keyof typeof platformErrors,
    message: string,
  ) {
    super(message);
  }

  get status(): number {
    return platformErrors[this.code];
  }
}
