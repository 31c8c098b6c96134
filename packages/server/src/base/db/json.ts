/** Value of a JSON column, whether the driver has parsed it or not. */
export function fromJson<T>(value: unknown): T {
  return (typeof value === 'string' ? JSON.parse(value) : value) as T;
}

/** Same, null when the column is null. */
export function fromJsonOrNull<T>(value: unknown): T | null {
  return value === null || value === undefined ? null : fromJson<T>(value);
}
