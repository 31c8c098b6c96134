import { apiErrors, type ApiErrorCode } from '@lithodex/contract';

export type { ApiErrorCode };

/** An answer that is an error, by its code in the contract's registry. */
export class ApiError extends Error {
  readonly status: number;
  constructor(
    readonly code: ApiErrorCode,
    readonly details?: unknown,
    message?: string,
  ) {
    super(message ?? apiErrors[code][1]);
    this.status = apiErrors[code][0];
  }
}

/** The row, or NOT_FOUND. */
export function found<T>(row: T | undefined | null): T {
  if (row === undefined || row === null) throw new ApiError('NOT_FOUND');
  return row;
}
