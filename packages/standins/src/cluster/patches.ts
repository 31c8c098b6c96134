type Value = unknown;
const isObject = (value: Value): value is Record<string, Value> => typeof value === 'object' && value !== null && !Array.isArray(value);

/** A JSON merge patch (RFC 7386): what is null goes, lists are replaced. */
export function merged(target: Value, patch: Value): Value {
  if (!isObject(patch)) return patch;
  const result = new Map(isObject(target) ? Object.entries(target) : []);
  for (const [field, value] of Object.entries(patch)) {
    if (value === null) result.delete(field);
    else result.set(field, merged(result.get(field), value));
  }
  return Object.fromEntries(result);
}

/** What somebody applies: what they said before and say no more goes, the rest of others stays. */
export function applied(target: Value, before: Value, now: Value): Value {
  if (!isObject(now)) return now;
  const result = new Map(isObject(target) ? Object.entries(target) : []);
  const said = isObject(before) ? before : {};
  for (const field of Object.keys(said)) if (!Object.hasOwn(now, field)) result.delete(field);
  for (const [field, value] of Object.entries(now)) result.set(field, applied(result.get(field), said[field], value));
  return Object.fromEntries(result);
}
