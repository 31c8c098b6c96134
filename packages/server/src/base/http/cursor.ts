import { ApiError } from '../errors';

/** The number a list goes on from, `first` on its first page. Throws INVALID for what no list has given out. */
export function numberAt(cursor: string | undefined, first: number): number {
  if (cursor === undefined || cursor === '') return first;
  const number = Number(cursor);
  if (!/^\d+$/.test(cursor) || !Number.isSafeInteger(number)) throw new ApiError('INVALID', [{ at: 'query.cursor' }]);
  return number;
}
