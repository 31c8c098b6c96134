import fs from 'node:fs';
import path from 'node:path';
import { describe, expect, it } from 'vitest';

/** Files of the packages, each with the files it imports by a relative path, for values or for types. */
function importsOf(root: string): Map<string, string[]> {
  const files = fs
    .readdirSync(root, { recursive: true, encoding: 'utf8' })
    .filter((f) => /^[\w-]+\/src\/.*\.ts$/.test(f) && !/\.(test|spec)\.ts$/.test(f))
    .map((f) => path.join(root, f));
  const known = new Set(files);
  return new Map(
    files.map((file) => {
      const found = fs.readFileSync(file, 'utf8').matchAll(/(?:from|import)\s*\(?\s*'(\.[^']+)'/g);
      const paths = [...found].map(([, to]) => `${path.join(path.dirname(file), to!)}.ts`);
      return [file, paths.filter((p) => known.has(p))];
    }),
  );
}

/** A way from a file back to itself, for every circle that there is. */
function circlesIn(imports: ReadonlyMap<string, readonly string[]>): string[][] {
  const circles: string[][] = [];
  const done = new Set<string>();
  const way: string[] = [];
  const go = (file: string) => {
    const at = way.indexOf(file);
    if (at >= 0) circles.push([...way.slice(at), file]);
    if (at >= 0 || done.has(file)) return;
    way.push(file);
    for (const next of imports.get(file) ?? []) go(next);
    way.pop();
    done.add(file);
  };
  for (const file of imports.keys()) go(file);
  return circles;
}

describe('imports', () => {
  it('never lead back to where they begin', () => {
    const imports = importsOf('packages');
    expect(imports.size).toBeGreaterThan(500);
    expect(circlesIn(imports)).toEqual([]);
  });

  it('would be found to, if they did', () => {
    const circle = new Map([
      ['a', ['b']],
      ['b', ['c', 'd']],
      ['c', ['a']],
      ['d', []],
    ]);
    expect(circlesIn(circle)).toEqual([['a', 'b', 'c', 'a']]);
  });
});
