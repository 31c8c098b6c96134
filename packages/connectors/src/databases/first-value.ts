/** A question that gives one row at most, whatever it asks. */
export const onlyOne = (sql: string): string => `SELECT * FROM (${sql.trim().replace(/(;\s*)+$/, '')}\n) AS answer LIMIT 1`;

/** The first value of the first row as text; null where there is none. */
export function firstValue(rows: readonly Record<string, unknown>[]): string | null {
  const [value] = Object.values(rows[0] ?? {});
  if (value === undefined || value === null) return null;
  if (Buffer.isBuffer(value)) return value.toString('hex');
  if (value instanceof Date) return value.toISOString();
  return ['string', 'number', 'bigint', 'boolean'].includes(typeof value)
    ? `${value as string | number | bigint | boolean}`
    : JSON.stringify(value);
}
