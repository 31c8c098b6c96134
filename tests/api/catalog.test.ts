import fs from 'node:fs';
import path from 'node:path';
import fc from 'fast-check';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { rounds } from '../support/by-command';
import { rewriteNames } from '@lithodex/server';
import { Harness, policyFor, type Client, withRule } from '../support/harness';

let h: Harness;
let admin: Client;
beforeAll(async () => {
  h = await Harness.start();
  admin = await h.as('administrator');
});
afterAll(() => h.stop());

/** A folder tree of a model: path → content; folders are what their files need. */
type Tree = ReadonlyMap<string, string>;
type Act = { readonly kind: 'write'; path: string; content: string } | { readonly kind: 'remove'; path: string };

const folder = fc.constantFrom('', 'a/', 'b/', 'a/deep/', 'a/deep/er/');
const name = fc.constantFrom('one', 'two', 'Two', 'ünï', '100%', 'x.tmp');
const file = fc.tuple(folder, name).map(([f, n]) => f + n);
const act: fc.Arbitrary<Act> = fc.oneof(
  fc.record({ kind: fc.constant('write' as const), path: file, content: fc.string({ maxLength: 12 }) }),
  fc.record({ kind: fc.constant('remove' as const), path: file }),
);
const history = fc.array(fc.array(act, { maxLength: 6 }), { minLength: 3, maxLength: 6 });

function apply(root: string, tree: Tree, acts: readonly Act[]): Tree {
  const next = new Map(tree);
  for (const a of acts) {
    const place = path.join(root, a.path);
    if (a.kind === 'write') {
      fs.mkdirSync(path.dirname(place), { recursive: true });
      fs.writeFileSync(place, a.content);
      next.set(a.path, a.content);
    } else if (next.delete(a.path)) {
      fs.rmSync(place);
      for (let up = path.dirname(place); up !== root && !fs.readdirSync(up).length; up = path.dirname(up)) fs.rmdirSync(up);
    }
  }
  return next;
}

const escaped = (p: string) => p.replaceAll('%', '%25');

/** Every file a point holds, by walking its tree through the API. */
async function filesOf(pointId: string, below = ''): Promise<string[]> {
  const { rows } = await admin.call('tree', { id: pointId, query: { path: below, limit: 500 } });
  const found: string[] = [];
  for (const row of rows) found.push(...(row.kind === 'folder' ? await filesOf(pointId, row.path) : [`${row.path} ${row.size}`]));
  return found.sort();
}

const listing = (tree: Tree) => [...tree].map(([p, content]) => `${escaped(p)} ${Buffer.byteLength(content)}`).sort();

const found = async (q: string) => (await admin.call('search', { query: { q } })).rows.map((r) => r.path).sort();

describe('names', () => {
  it('are found as they are and were, by workload, page by page, also once they were written down anew', async () => {
    const { source, workloadId, targetId } = await h.connect(admin, 'named');
    const { id } = await admin.call('addPolicy', { body: policyFor([workloadId], targetId, { name: 'named' }) });
    const { db } = h.server.deps;
    const own = async () => (await db('series').where({ workload_id: workloadId }).first<{ no: number }>('no')).no;
    const blocks = async () =>
      Number(
        (
          await db('name_block')
            .where({ series_no: await own() })
            .count({ n: '*' })
            .first<{ n: number }>()
        ).n,
      );
    for (let i = 0; i < 34; i++) {
      fs.writeFileSync(`${source}/Quay-log-${i}.TXT`, `${i}`);
      if (i > 20) fs.rmSync(`${source}/Quay-log-${i - 20}.TXT`);
      expect((await admin.ended((await admin.call('runPolicy', { id, body: {} })).runId)).state).toBe('done');
    }
    const all = Array.from({ length: 34 }, (_, i) => `Quay-log-${i}.TXT`).sort();
    expect(await found('quay-LOG')).toEqual(all);
    expect(await blocks()).toBe(34);
    await rewriteNames(db);
    expect(await blocks()).toBe(1);
    await h.server.deps.names.follow();
    expect(await found('quay-log')).toEqual(all);
    expect(await found('log-3')).toEqual(all.filter((n) => n.includes('log-3')));
    expect(await found('quay\nlog')).toEqual([]);
    expect(await found('log-99')).toEqual([]);

    const pages: string[] = [];
    for (let cursor: string | null | undefined; cursor !== null;) {
      const page = await admin.call('search', { query: { q: 'quay-log', workload: workloadId, limit: 10, ...(cursor && { cursor }) } });
      pages.push(...page.rows.map((r) => r.path));
      cursor = page.next;
    }
    expect(pages.sort()).toEqual(all);
    const gone = (await admin.call('search', { query: { q: 'log-1.txt' } })).rows;
    expect(gone).toMatchObject([{ path: 'Quay-log-1.TXT', versions: 1, stillThere: false }]);
  });
});

describe('the catalog', () => {
  it('shows every living point exactly as the folder was, and every version once, through any history and expiry', async () => {
    let n = 0;
    await fc.assert(
      fc.asyncProperty(history, fc.integer({ min: 1, max: 4 }), async (steps, kept) => {
        const label = `series-${n++}`;
        const { workloadId, source, targetId } = await h.connect(admin, label);
        const body = policyFor([workloadId], targetId, { name: label, keep: { by: 'points', points: 100 }, changeLimit: 100 });
        const { id } = await admin.call('addPolicy', { body });
        const run = async () => {
          const ended = await admin.ended((await admin.call('runPolicy', { id, body: {} })).runId);
          expect(ended.state).toBe('done');
        };
        let tree: Tree = new Map();
        const trees: Tree[] = [];
        for (const acts of steps) {
          trees.push((tree = apply(source, tree, acts)));
          await run();
        }
        const check = async (expected: readonly Tree[]) => {
          const { pointList } = await admin.call('workload', { id: workloadId });
          expect(pointList).toHaveLength(expected.length);
          for (const [i, point] of pointList.entries()) expect(await filesOf(point.id)).toEqual(listing(expected[i]!));
          const paths = new Set(expected.flatMap((t) => [...t.keys()]));
          for (const p of paths) {
            const { rows } = await admin.call('versions', { query: { workload: workloadId, path: escaped(p) } });
            expect(rows.reduce((sum, v) => sum + v.points, 0)).toBe(expected.filter((t) => t.has(p)).length);
            const search = await admin.call('search', { query: { q: escaped(path.basename(p)), workload: workloadId, limit: 500 } });
            const hit = search.rows.find((r) => r.path === escaped(p));
            expect(hit?.stillThere).toBe(expected.at(-1)!.has(p));
          }
        };
        await check(trees);
        await h.agree(await admin.call('changePolicy', { id, body: withRule(body, { keep: { by: 'points', points: kept } }) }));
        trees.push(apply(source, tree, steps[0]!));
        await run();
        await check(trees.slice(-kept));
      }),
      { numRuns: rounds(3, 6) },
    );
  });

  it('searches names as people type them, in any letter case, with any sign taken literally', async () => {
    const { workloadId, source, targetId } = await h.connect(admin, 'names');
    const names = ['100% sure_thing', '100 sure-thing', 'Blåbær', '..hidden', "o'clock", 'back\\slash', 'tab\there'];
    for (const each of names) fs.writeFileSync(`${source}/${each}`, each);
    const { id } = await admin.call('addPolicy', { body: policyFor([workloadId], targetId, { name: 'names' }) });
    await admin.ended((await admin.call('runPolicy', { id, body: {} })).runId);
    const find = async (q: string) =>
      (await admin.call('search', { query: { q, workload: workloadId } })).rows.map((r) => decodeURIComponent(r.path)).sort();
    expect(await find('sure')).toEqual(['100 sure-thing', '100% sure_thing']);
    expect(await find('re_th')).toEqual(['100% sure_thing']);
    expect(await find('BLÅBÆR')).toEqual(['Blåbær']);
    expect(await find("O'C")).toEqual(["o'clock"]);
    expect(await find('..h')).toEqual(['..hidden']);
    expect(await find('k\\s')).toEqual(['back\\slash']);
    expect(await find('%25 s')).toEqual(['100% sure_thing']);
    expect(await find('nowhere')).toEqual([]);
  });
});
