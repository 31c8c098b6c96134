import { EngineError } from '../errors';

const codes = new Set(['CHUNK_MISSING', 'OBJECT_MISSING', 'OBJECT_DAMAGED', 'TREE_DAMAGED']);

/** Whether an error says that what was stored is not there or not as it was. */
export function isLoss(error: unknown): error is EngineError {
  return error instanceof EngineError && codes.has(error.code);
}
