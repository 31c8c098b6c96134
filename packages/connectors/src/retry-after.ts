/** So often an answer that asks for patience is waited for. */
export const tooManyWaits = 8;
const longestMs = 120_000;

/**
 * How long to wait before a question is asked again, ms; undefined where the answer is one. 429 and 503 ask for patience (RFC 6585, RFC 9110: Retry-After in seconds or as a date).
 * @param attempt 1 for the first answer
 */
export function waitOf(
  status: number,
  headers: Readonly<Record<string, string | string[] | undefined>>,
  attempt: number,
  now = Date.now(),
): number | undefined {
  if (status !== 429 && status !== 503) return undefined;
  const said = headers['retry-after'];
  const text = Array.isArray(said) ? said[0] : said;
  if (status === 503 && text === undefined && attempt > 2) return undefined;
  const seconds = Number(text);
  const ms = text === undefined ? 500 * 2 ** attempt : Number.isFinite(seconds) ? seconds * 1000 : Date.parse(text) - now;
  return Math.min(longestMs, Math.max(100, Number.isFinite(ms) ? ms : 1000));
}
