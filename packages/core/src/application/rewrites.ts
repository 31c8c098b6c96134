import { isList, isObject, kindOf, withValue, type Json, type JsonObject, type Resource } from './resource';

/** A change that resources get on their way to another cluster. */
export interface Rewrite {
  /** Kind it holds for, like `Ingress.networking.k8s.io` or `Ingress`; '' for all. */
  readonly kind: string;
  /** Where: fields divided by dots, `*` for any one, `**` for any number of them; '' for everywhere. */
  readonly path: string;
  /** The text that is replaced wherever it stands there; '' for the whole value. */
  readonly from: string;
  /** What takes its place; where a whole value is replaced, a number or a word of JSON stays one. */
  readonly to: string;
}

/** One value that a rewrite changes. */
export interface Changed {
  /** Of `rewrites`, the last one that changed it. */
  readonly rewrite: number;
  /** Fields that lead there. */
  readonly path: readonly string[];
  readonly before: Json;
  readonly after: Json;
}

/** Fields that say what a resource is. */
const fixed = ['apiVersion', 'kind'];

/** Whether fields lead where a pattern says. Takes pattern × path steps. */
export function pathMatches(pattern: readonly string[], path: readonly string[]): boolean {
  let reached = new Set([0]);
  const skip = (at: Set<number>) => {
    for (const i of at) if (pattern[i] === '**') at.add(i + 1);
  };
  skip(reached);
  for (const part of path) {
    const next = new Set<number>();
    for (const i of reached) {
      if (pattern[i] === '**') next.add(i);
      else if (pattern[i] === '*' || pattern[i] === part) next.add(i + 1);
    }
    skip(next);
    reached = next;
  }
  return reached.has(pattern.length);
}

const kindFits = ({ kind }: Rewrite, resource: Resource) => kind === '' || kind === kindOf(resource) || kind === resource.kind;

/** The whole value that a rewrite sets: what was a number, a truth or nothing stays of its type where the text can be read as one. */
function wholeValue(text: string, before: Json): Json {
  if (typeof before === 'string') return text;
  try {
    const read = JSON.parse(text) as Json;
    return typeof read === typeof before ? read : text;
  } catch {
    return text;
  }
}

/** A resource as the rewrites make it, one after the other, and each value that is another than before. */
export function rewriteResource(
  resource: Resource,
  rewrites: readonly Rewrite[],
): { readonly resource: Resource; readonly changed: readonly Changed[] } {
  const changed = new Map<string, Changed>();
  let now = resource;
  for (const [index, rule] of rewrites.entries()) {
    if (!kindFits(rule, resource)) continue;
    const pattern = rule.path === '' ? ['**'] : rule.path.split('.');
    const visit = (value: Json, path: readonly string[]): Json => {
      if (isObject(value))
        return Object.fromEntries(
          Object.entries(value).map(([field, v]) => [field, path.length === 0 && fixed.includes(field) ? v : visit(v, [...path, field])]),
        );
      if (isList(value)) return value.map((v, i) => visit(v, [...path, String(i)]));
      if (!pathMatches(pattern, path)) return value;
      const after =
        rule.from === ''
          ? rule.path === ''
            ? value
            : wholeValue(rule.to, value)
          : typeof value === 'string'
            ? value.replaceAll(rule.from, rule.to)
            : value;
      if (after !== value) {
        const key = JSON.stringify(path);
        changed.set(key, { rewrite: index, path, before: changed.get(key)?.before ?? value, after });
      }
      return after;
    };
    now = visit(now, []) as Resource;
  }
  return { resource: now, changed: [...changed.values()].filter((c) => c.before !== c.after) };
}

/** A secret's values as text, where they are text: rewrites and looks reach into them. Others stay as they are. */
export function readableSecret(sealed: JsonObject, decode: (base64: string) => string | undefined): JsonObject {
  const data = sealed['data'];
  if (!isObject(data)) return sealed;
  const text = new Map<string, Json>();
  const rest = new Map<string, Json>();
  for (const [name, value] of Object.entries(data)) {
    const read = typeof value === 'string' ? decode(value) : undefined;
    if (read === undefined) rest.set(name, value);
    else text.set(name, read);
  }
  const own = isObject(sealed['stringData']) ? sealed['stringData'] : {};
  const left = rest.size ? Object.fromEntries(rest) : undefined;
  return withValue(withValue(sealed, ['data'], left), ['stringData'], { ...Object.fromEntries(text), ...own });
}
