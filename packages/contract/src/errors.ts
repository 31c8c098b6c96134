/** Every error of the API by stable code, with its HTTP status and its words: what happened, what is safe, what to do. */
export const apiErrors = {
  NOT_SIGNED_IN: [401, 'Sign in first.'],
  TOKEN_ENDED: [401, 'This token has ended. Whoever it belongs to can issue it anew, under Trust.'],
  SIGN_IN_REFUSED: [401, 'Name or password is wrong. Nothing was changed.'],
  CODE_REFUSED: [403, 'This code is not valid (any more). Ask for a new one.'],
  TOO_MANY_TRIES: [429, 'Too many tries. Wait a few minutes, then try again.'],
  NOT_ALLOWED: [403, 'Your role does not allow this. Ask an administrator.'],
  OUTSIDE_REMIT: [403, 'This is outside your remit. Ask an administrator.'],
  SECOND_PERSON: [403, 'This needs a second person. Nothing was changed.'],
  CSRF_MISSING: [403, 'The request did not come from the application. Reload the page and try again.'],
  NOT_FOUND: [404, 'There is no such thing here (any more).'],
  INVALID: [400, 'The request is not valid. Nothing was changed.'],
  TOO_LARGE: [413, 'The request is too large.'],
  NAME_TAKEN: [409, 'The name is taken. Choose another.'],
  IN_USE: [409, 'It is still in use, so it was left as it is.'],
  NOT_NOW: [409, 'This can not be done in the present state.'],
  CONNECTION_FAULTY: [422, 'The connection test found a fault, so it was not saved.'],
  TARGET_FAULTY: [422, 'The target can not be used, so it was not saved.'],
  POINT_GONE: [410, 'The point has expired or was removed.'],
  MOVER_ABSENT: [503, 'No mover answers at the moment. Start one, then try again.'],
  MOVER_FAILED: [502, 'The mover could not do this.'],
  NOTICE_FAILED: [502, 'The message did not go out.'],
  LEASE_LOST: [409, 'Another mover has taken over this task.'],
  DATABASE_AWAY: [503, 'The database does not answer. What is stored is safe; try again in a moment.'],
  INTERNAL: [500, 'Something went wrong inside the server. The log has the details.'],
} as const;

export type ApiErrorCode = keyof typeof apiErrors;
