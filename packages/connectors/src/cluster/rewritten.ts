import {
  isObject,
  kindOf,
  movedTo,
  readableSecret,
  rewriteResource,
  type Changed,
  type JsonObject,
  type Resource,
  type Rewrite,
} from '@lithodex/core';

/** A value of a secret as text; undefined for bytes that are none. */
export function decoded(base64: string): string | undefined {
  const bytes = Buffer.from(base64, 'base64');
  const text = bytes.toString('utf8');
  return Buffer.from(text, 'utf8').equals(bytes) && !text.includes('\0') ? text : undefined;
}

/** A resource whose values can be read where they are text, secrets as well. */
export function readable(resource: Resource): Resource {
  if (kindOf(resource) !== 'Secret') return resource;
  const { data, stringData, ...rest } = resource;
  const sealed: JsonObject = { ...(data !== undefined && { data }), ...(stringData !== undefined && { stringData }) };
  return { ...rest, ...readableSecret(sealed, decoded) };
}

/** A resource as clusters keep it: the values of secrets in one field. */
export function kept(resource: Resource): Resource {
  const { stringData } = resource;
  if (kindOf(resource) !== 'Secret' || !isObject(stringData)) return resource;
  const values = Object.entries(stringData).map(([name, value]) => [
    name,
    Buffer.from(typeof value === 'string' ? value : JSON.stringify(value), 'utf8').toString('base64'),
  ]);
  const { data } = resource;
  const { stringData: _, ...rest } = resource;
  return { ...rest, data: { ...(isObject(data) && data), ...(Object.fromEntries(values) as JsonObject) } };
}

/** A resource as it goes to a place: moved, and rewritten on the way. */
export function onItsWay(
  resource: Resource,
  from: string,
  to: string,
  rewrites: readonly Rewrite[],
): { readonly resource: Resource; readonly changed: readonly Changed[] } {
  return rewriteResource(readable(movedTo(resource, from, to)), rewrites);
}
