/** What the cloud answers when it can't do what it is asked. */
export const cloudErrors = {
  SIGN_IN_REFUSED: 401,
  PASSWORD_EXPIRED: 401,
  SESSION_ENDED: 401,
  RIGHT_MISSING: 403,
  NOT_FOUND: 404,
  NAME_TAKEN: 409,
  MACHINE_RUNNING: 409,
  IN_USE: 409,
  OVER_QUOTA: 409,
  INVALID: 400,
  DOWN: 503,
} as const;

export class CloudError extends Error {
  constructor(
    readonly code: keyof typeof cloudErrors,
    message: string,
  ) {
    super(message);
  }

  get status(): number {
    return cloudErrors[this.code];
  }
}
