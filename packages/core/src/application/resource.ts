/** What JSON can hold. */
export type Json = string | number | boolean | null | readonly Json[] | JsonObject;

export interface JsonObject {
  readonly [field: string]: Json;
}

/** A resource of a container cluster, as its API tells it. */
export interface Resource {
  readonly apiVersion: string;
  readonly kind: string;
  readonly metadata: JsonObject & { readonly name: string };
  readonly [field: string]: Json;
}

export const isObject = (value: Json | undefined): value is JsonObject =>
  typeof value === 'object' && value !== null && !Array.isArray(value);
export const isList = (value: Json | undefined): value is readonly Json[] => Array.isArray(value);

/** A value inside others; undefined where there is none. */
export function valueAt(value: Json | undefined, ...path: readonly string[]): Json | undefined {
  let at = value;
  for (const part of path) {
    if (!isObject(at) || !Object.hasOwn(at, part)) return undefined;
    at = at[part];
  }
  return at;
}

export const textAt = (value: Json | undefined, ...path: readonly string[]): string => {
  const found = valueAt(value, ...path);
  return typeof found === 'string' ? found : '';
};

export const listAt = (value: Json | undefined, ...path: readonly string[]): readonly Json[] => {
  const found = valueAt(value, ...path);
  return isList(found) ? found : [];
};

/** A group of an API, '' for the first one, which has no name. */
export const groupOf = ({ apiVersion }: Pick<Resource, 'apiVersion'>): string =>
  apiVersion.includes('/') ? apiVersion.slice(0, apiVersion.indexOf('/')) : '';

/** What people call a resource: `secret mail-relay`. */
export const nameOf = ({ kind, metadata }: Pick<Resource, 'kind' | 'metadata'>): string => `${kind} ${metadata.name}`;

/** Two resources of a kind differ by more than its name, which groups may share: `Deployment.apps`. */
export const kindOf = (resource: Pick<Resource, 'apiVersion' | 'kind'>): string => {
  const group = groupOf(resource);
  return group === '' ? resource.kind : `${resource.kind}.${group}`;
};

/** The same with one value inside others set; undefined takes it away. What is missing on the way is made. */
export function withValue<T extends JsonObject>(value: T, path: readonly string[], set: Json | undefined): T {
  const [part, ...rest] = path;
  if (part === undefined) return value;
  const before = value[part];
  const now = rest.length ? withValue<JsonObject>(isObject(before) ? before : {}, rest, set) : set;
  if (now !== undefined) return { ...value, [part]: now };
  return Object.fromEntries(Object.entries(value).filter(([field]) => field !== part)) as T;
}
