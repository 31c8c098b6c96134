import { EngineError } from '../errors';

const codes = new Set(['CHUNK_MISSING', 'OBJECT_MISSING', 'OBJECT_DAMAGED', 'TREE_DAMAGED']);

/** Whether what was stored is on a cartridge that nobody has loaded: not lost, but not to be had here now. */
export function isAway(error: unknown): error is EngineError {
  return error instanceof EngineError && error.code === 'CARTRIDGE_AWAY';
}

/** Whether an error says that what was stored is not there or not as it was. */
export function isLoss(error: unknown): error is EngineError {
  return error instanceof EngineError && codes.has(error.code);
}

const closed = new Set(['CARTRIDGE_AWAY', 'TARGET_MISSING', 'TARGET_REFUSED']);

/** Whether what could not be read here may be had from another copy: it is lost, or the target does not give it now. */
export const helpsElsewhere = (error: unknown): error is EngineError =>
  isLoss(error) || (error instanceof EngineError && closed.has(error.code));
