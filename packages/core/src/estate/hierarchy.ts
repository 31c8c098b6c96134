/** A workload as a tree sees it: the places it has there (a part for each level), and whether nothing protects it. */
export interface Placed {
  readonly places: readonly (readonly string[])[];
  readonly open: boolean;
}

export interface HierarchyNode {
  /** Parts, as text that {@link parsePath} reads back. */
  readonly path: string;
  readonly name: string;
  /** 0 at the top. */
  readonly depth: number;
  /** Workloads in it or below, each once. */
  readonly count: number;
  /** Those of them that nothing protects. */
  readonly open: number;
}

const escapePart = (part: string) => part.replace(/[%/]/g, (c) => (c === '%' ? '%25' : '%2F'));

/** Parts of a path as one text; {@link parsePath} reads it back. */
export function pathText(parts: readonly string[]): string {
  return parts.map(escapePart).join('/');
}

/** Inverse of {@link pathText}. */
export function parsePath(text: string): string[] {
  return text.split('/').map((part) => part.replace(/%2F/g, '/').replace(/%25/g, '%'));
}

/** Whether one of the places lies in the node with these parts. */
export function isIn(places: Placed['places'], node: readonly string[]): boolean {
  return places.some((parts) => parts.length >= node.length && node.every((part, i) => parts[i] === part));
}

interface Node {
  readonly path: string;
  readonly parts: readonly string[];
  readonly above: Node | undefined;
  count: number;
  open: number;
  /** Number of the item that was counted last. */
  last: number;
}

/** The tree that the places of workloads make, each node before those below it, by name. */
export function hierarchyOf(items: readonly Placed[]): HierarchyNode[] {
  const nodes = new Map<string, Node>();
  const leaves = new Map<string, Node>();
  const nodeAt = (parts: readonly string[]): Node => {
    const path = pathText(parts);
    const known = nodes.get(path);
    if (known) return known;
    const above = parts.length > 1 ? nodeAt(parts.slice(0, -1)) : undefined;
    const node: Node = { path, parts, above, count: 0, open: 0, last: -1 };
    nodes.set(path, node);
    return node;
  };
  // many workloads share a place: its path is worked out once
  const leafOf = (parts: readonly string[]): Node => {
    const key = parts.join('\u0000\u0001');
    let leaf = leaves.get(key);
    if (!leaf) {
      leaf = nodeAt(parts);
      leaves.set(key, leaf);
    }
    return leaf;
  };
  for (const [number, { places, open }] of items.entries())
    for (const parts of places)
      for (let node: Node | undefined = leafOf(parts); node && node.last !== number; node = node.above) {
        node.last = number;
        node.count++;
        if (open) node.open++;
      }
  const order = new Intl.Collator('en', { numeric: true });
  const compare = (a: readonly string[], b: readonly string[]): number => {
    for (let i = 0; i < Math.min(a.length, b.length); i++) {
      const by = order.compare(a[i]!, b[i]!) || (a[i]! < b[i]! ? -1 : a[i]! > b[i]! ? 1 : 0);
      if (by) return by;
    }
    return a.length - b.length;
  };
  return [...nodes.values()]
    .sort((a, b) => compare(a.parts, b.parts))
    .map(({ path, parts, count, open }) => ({ path, name: parts.at(-1)!, depth: parts.length - 1, count, open }));
}
