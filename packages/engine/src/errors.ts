/** Every error of the engine, by stable code. */
export const engineErrors = {
  TARGET_MISSING: 'The folder of the target is not there. If it is on a removable or network disk, connect it and try again.',
  TARGET_EXISTS: 'The folder already holds a store.',
  TARGET_NOT_EMPTY: 'The folder is not empty and holds no store.',
  TARGET_REFUSED: 'The target refused the operation.',
  OBJECT_LOCKED: 'It is locked: nobody can remove it before that date.',
  TARGET_FULL: 'The target has no room left.',
  STORE_VERSION: 'The store was written in a format this version does not know.',
  STORE_HEADER: 'The header of the store is damaged or was changed.',
  KEY_WRONG: 'The key does not open this store.',
  KEY_MISSING: 'The key file of the store is missing.',
  CARTRIDGE_AWAY: 'The cartridge is not in the library: load it and try again.',
  OBJECT_MISSING: 'A file of the store is missing.',
  OBJECT_DAMAGED: 'A file of the store is damaged: its sum does not match.',
  CHUNK_MISSING: 'A chunk is not in the store.',
  TREE_DAMAGED: 'A tree node of the store can not be read.',
  PATH_MISSING: 'The point does not hold this path.',
  NOT_OWNER: 'Another installation has taken the target over: nothing is written there from here.',
  TASK_GIVEN_UP: 'The task was given up while it did not answer, so its point does not count.',
  DOMAIN_DIFFERS: 'The target belongs to another domain: its chunks have other names, so points can not be copied to it.',
  LEADS_AWAY: 'The path leads elsewhere: links are not followed.',
  OUT_OF_BOUNDS: 'The mover does not do that on its host.',
  ACCOUNT_UNKNOWN: 'There is no such account on the host of the mover.',
  STOPPED: 'The work was stopped.',
} as const;

export type EngineErrorCode = keyof typeof engineErrors;

export class EngineError extends Error {
  constructor(
    readonly code: EngineErrorCode,
    readonly details = '',
    options?: { cause?: unknown },
  ) {
    super(details ? `${engineErrors[code]} (${details})` : engineErrors[code], options);
    this.name = 'EngineError';
  }
}

/** Code of a system error ('ENOENT', …), or undefined. */
export function systemCode(error: unknown): string | undefined {
  return error instanceof Error && 'code' in error && typeof error.code === 'string' ? error.code : undefined;
}
