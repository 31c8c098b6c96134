import { isList, isObject, type Json, type Resource } from './resource';

/** What is only at the place that an application comes from, by what it is. */
export interface OldPlace {
  /** Host names, and what they end in. */
  readonly hosts: readonly string[];
  readonly addresses: readonly string[];
  readonly nodes: readonly string[];
  readonly classes: readonly string[];
  /** The namespace, where it has another name at the new place. */
  readonly namespace: string;
}

export type PointsTo = 'host' | 'address' | 'node' | 'class' | 'namespace';

/** A value that still leads to the old place. */
export interface Pointing {
  readonly path: readonly string[];
  readonly to: PointsTo;
  /** What it names there. */
  readonly names: string;
}

const edge = /[A-Za-z0-9_]/;
/** Whether a text names something as a word of its own: `jetty` is not named by `jetty2`, but by `relay.jetty`. */
export function namesWord(text: string, word: string): boolean {
  if (word === '') return false;
  for (let at = text.indexOf(word); at >= 0; at = text.indexOf(word, at + 1)) {
    const [before, after] = [text[at - 1], text[at + word.length]];
    if ((before === undefined || !edge.test(before)) && (after === undefined || !edge.test(after))) return true;
  }
  return false;
}

/** Every value of a resource that would still lead to the old place. */
export function pointingOf(resource: Resource, old: OldPlace): Pointing[] {
  const found: Pointing[] = [];
  const look = (text: string, path: readonly string[]) => {
    const say = (to: PointsTo, word: string) => void found.push({ path, to, names: word });
    // one word is enough, the longest: `relay.jetty` rather than `jetty`
    const longest = (words: readonly string[]) => words.filter((w) => namesWord(text, w)).sort((a, b) => b.length - a.length)[0];
    const host = longest(old.hosts);
    const address = longest(old.addresses);
    const node = longest(old.nodes);
    if (host !== undefined) say('host', host);
    if (address !== undefined) say('address', address);
    if (node !== undefined) say('node', node);
    if (path.at(-1)?.toLowerCase().endsWith('classname') && old.classes.includes(text)) say('class', text);
    if (
      old.namespace !== '' &&
      path[0] !== 'metadata' &&
      (namesWord(text, `${old.namespace}.svc`) || path.at(-1) === 'namespace') &&
      namesWord(text, old.namespace)
    )
      say('namespace', old.namespace);
  };
  const visit = (value: Json, path: readonly string[]) => {
    if (typeof value === 'string') look(value, path);
    else if (isList(value))
      value.forEach((v, i) => {
        visit(v, [...path, String(i)]);
      });
    else if (isObject(value)) for (const [field, v] of Object.entries(value)) visit(v, [...path, field]);
  };
  for (const [field, value] of Object.entries(resource)) if (field !== 'apiVersion' && field !== 'kind') visit(value, [field]);
  return found;
}
