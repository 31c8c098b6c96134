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

/** Whether one of the places lies in the node of this path. */
export function isIn(places: Placed['places'], path: string): boolean {
  return places.some((parts) => {
    const text = pathText(parts);
    return text === path || text.startsWith(`${path}/`);
  });
}

/** The tree that the places of workloads make, each node before those below it, by name. */
export function hierarchyOf(items: readonly Placed[]): HierarchyNode[] {
  const nodes = new Map<string, { parts: readonly string[]; count: number; open: number }>();
  for (const { places, open } of items) {
    const own = new Set<string>();
    for (const parts of places)
      for (let depth = 1; depth <= parts.length; depth++) {
        const above = parts.slice(0, depth);
        const path = pathText(above);
        if (own.has(path)) continue;
        own.add(path);
        const node = nodes.get(path) ?? { parts: above, count: 0, open: 0 };
        node.count++;
        if (open) node.open++;
        nodes.set(path, node);
      }
  }
  const order = new Intl.Collator('en', { numeric: true });
  const compare = (a: readonly string[], b: readonly string[]): number => {
    for (let i = 0; i < Math.min(a.length, b.length); i++) {
      const by = order.compare(a[i]!, b[i]!) || (a[i]! < b[i]! ? -1 : a[i]! > b[i]! ? 1 : 0);
      if (by) return by;
    }
    return a.length - b.length;
  };
  return [...nodes]
    .sort(([, a], [, b]) => compare(a.parts, b.parts))
    .map(([path, { parts, count, open }]) => ({ path, name: parts.at(-1)!, depth: parts.length - 1, count, open }));
}
