import type { ItemChange } from '@lithodex/contract';
import { escapePath } from '@lithodex/core';
import { loadBatch } from '@lithodex/server';
import fc from 'fast-check';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { rounds } from '../support/by-command';
import { Harness, type Client } from '../support/harness';

let h: Harness;
let admin: Client;
const hourMs = 3_600_000;
const target = '00000000-0000-4000-8000-000000000001';
const began = Date.now() - 100 * hourMs;
const workloads = 12;

beforeAll(async () => {
  h = await Harness.start({ movers: 0 });
  admin = await h.as('administrator');
  const { db } = h.server.deps;
  await db('target').insert({ id: target, name: 'quay-disk', folder: '/none', location: '', created_at: began });
  await db('source').insert({ id: 1, name: 'quay', folder: Buffer.from('/none'), location: '', cross_fs: false, created_at: began });
  for (let no = 1; no <= workloads; no++) {
    await db('workload').insert({ id: no, source_id: 1, name: `quay-${no}`, created_at: began });
    // two series of some workloads
    for (const series of no % 3 ? [no] : [no, no + 100])
      await db('series').insert({
        no: series,
        id: `00000000-0000-4000-8000-0000000${10_000 + series}`,
        workload_id: no,
        target_id: target,
        method: 'files',
        part: series > 100 ? 'other' : '',
        last_ordinal: 0,
      });
  }
  await h.server.deps.events.emit('estate');
});
afterAll(() => h.stop());

const anyByte = fc.integer({ min: 0, max: 255 }).map((n) => String.fromCharCode(n));
const anyName = fc
  .array(fc.oneof(anyByte, fc.constantFrom('\t', '\n', '\\', '\\N', "'", '"', '%', '\0', '\r', 'N')), { minLength: 1, maxLength: 20 })
  .map((parts) => parts.join('').replaceAll('/', '-'))
  .filter((name) => name !== '.' && name !== '..');

describe('rows of the catalog', () => {
  it('hold names of any bytes, and every fact, as they were sent', async () => {
    const { db } = h.server.deps;
    let ordinal = 0;
    const facts = fc.record({
      kind: fc.constantFrom('file', 'folder', 'link', 'fifo'),
      size: fc.nat(),
      mtimeNs: fc.bigInt(-(10n ** 18n), 4n * 10n ** 18n).map(String),
      mode: fc.nat(0o7777),
      uid: fc.nat(),
      gid: fc.nat(),
      items: fc.nat(),
      flags: fc.nat(7),
      content: fc.oneof(
        fc.constant(''),
        fc.uint8Array({ minLength: 16, maxLength: 16 }).map((b) => Buffer.from(b).toString('hex')),
      ),
    });
    const change = fc.record({ change: fc.constant('added' as const), folder: fc.oneof(fc.constant(''), anyName), name: anyName, facts });
    const changes = fc.uniqueArray(change, { minLength: 1, maxLength: 30, selector: (c) => `${c.folder}/${c.name}` });
    await fc.assert(
      fc.asyncProperty(changes, async (batch: ItemChange[]) => {
        ordinal += 1024;
        await db.transaction((trx) => loadBatch(trx, 1, ordinal, batch));
        const rows = await db('item').where({ series_no: 1, from_ord: ordinal }).select<Record<string, unknown>[]>();
        const kinds = ['file', 'folder', 'link', 'fifo'];
        const said = (c: (typeof batch)[number]) => {
          const { kind, size, mtimeNs, mode, uid, gid, items, flags, content } = c.facts!;
          return JSON.stringify([c.name, kind, size, mtimeNs, mode, uid, gid, items, flags, content.padEnd(32, '0')]);
        };
        const kept = rows.map((r) => {
          const { kind, size, mtime_ns, mode, uid, gid, items, flags } = r as Record<string, number>;
          const [name, content] = [r['name'] as Buffer, r['content'] as Buffer];
          return JSON.stringify([
            name.toString('latin1'),
            kinds[kind!],
            size,
            String(mtime_ns),
            mode,
            uid,
            gid,
            items,
            flags,
            content.toString('hex'),
          ]);
        });
        expect(kept.sort()).toEqual(batch.map(said).sort());
        const folders = await db('folder').where({ series_no: 1 }).select<{ path: Buffer }[]>('path');
        const paths = new Set(folders.map((f) => f.path.toString('latin1')));
        for (const c of batch) if (c.facts!.kind === 'folder') expect(paths).toContain(c.folder ? `${c.folder}/${c.name}` : c.name);
        // once more changes nothing
        await db.transaction((trx) => loadBatch(trx, 1, ordinal, batch));
        expect(await db('item').where({ series_no: 1, from_ord: ordinal }).count({ n: '*' }).first()).toEqual({ n: batch.length });
        await db('item').where({ series_no: 1 }).delete();
      }),
      { numRuns: 60 },
    );
  });

  it('are found by what the name is shown as', async () => {
    const { db } = h.server.deps;
    const name = 'tab\there \\N and\nbeyond';
    const facts = { kind: 'file', size: 1, mtimeNs: '0', mode: 0, uid: 0, gid: 0, items: 0, flags: 0, content: '' };
    await db.transaction((trx) => loadBatch(trx, 1, 1024, [{ change: 'added', folder: '', name, facts }]));
    const { names } = await db('name_block').where({ series_no: 1 }).orderBy('no', 'desc').first<{ names: Buffer }>('names');
    expect(names.toString()).toBe(`${escapePath(name).toLowerCase()}\n`);
    await db('item').where({ series_no: 1 }).delete();
  });
});

describe('the estate as of a moment', () => {
  it('says of every workload what a count of all its points says', async () => {
    const { db } = h.server.deps;
    const point = fc.record({ hour: fc.nat(90), suspect: fc.boolean(), gone: fc.boolean(), second: fc.boolean() });
    const histories = fc.array(fc.uniqueArray(point, { maxLength: 12, selector: (p) => p.hour }), {
      minLength: workloads,
      maxLength: workloads,
    });
    let asked = 0;
    await fc.assert(
      fc.asyncProperty(histories, fc.array(fc.nat(95), { minLength: 3, maxLength: 3 }), async (all, hours) => {
        await db('point').delete();
        await db('workload_points').delete();
        const rows = all.flatMap((points, w) =>
          points.map((p, i) => ({
            ...p,
            workload: w + 1,
            id: `00000000-0000-4000-9000-0000${String(w).padStart(4, '0')}${String(i).padStart(4, '0')}`,
          })),
        );
        const zeros = {
          files: 1,
          read_bytes: 0,
          fresh: 0,
          stored: 1,
          added: 0,
          changed: 0,
          removed: 0,
          warnings: 0,
          complete: true,
          share: 0,
          unusual: 0,
        };
        for (const r of rows)
          await db('point').insert({
            id: r.id,
            series_no: r.second && r.workload % 3 === 0 ? r.workload + 100 : r.workload,
            workload_id: r.workload,
            run_id: 1,
            ordinal: r.hour * 1024,
            moment: began + r.hour * hourMs,
            kind: 'full',
            state: r.gone ? 'expired' : 'visible',
            items: r.hour,
            bytes: r.hour * 10,
            suspect: r.suspect,
            reasons: '[]',
            ...zeros,
          });
        await db.raw(`INSERT INTO workload_points SELECT workload_id, COUNT(*), MIN(moment), SUM(suspect), MAX(id), MAX(moment), 1, 1, SUM(bytes), SUM(stored)
          FROM point WHERE state = 'visible' GROUP BY workload_id`);
        for (const hour of hours) {
          // a moment of its own each time: rows changed beneath the server tell it nothing, and it keeps what it read last
          const at = began + hour * hourMs + ++asked;
          const { workloads: shown } = await admin.call('estate', { query: { at, show: 'points' } });
          const should = Array.from({ length: workloads }, (_, w) => rows.filter((r) => r.workload === w + 1 && !r.gone && r.hour <= hour))
            .filter((own) => own.length)
            .map((own) => {
              const sound = own.some((p) => !p.suspect) ? own.filter((p) => !p.suspect) : own;
              const newest = sound.reduce((a, b) => (b.hour > a.hour ? b : a));
              const moments = own.map((p) => began + p.hour * hourMs);
              const suspect = own.some((p) => p.suspect);
              return [newest.workload, own.length, newest.id, newest.hour * 10, Math.min(...moments), suspect ? 'suspect' : 'none'];
            });
          const said = shown
            .sort((a, b) => a.id - b.id)
            .map((w) => [w.id, w.points, w.newestPoint!.id, w.newestPoint!.bytes, w.oldestPoint, w.coverage]);
          expect(said).toEqual(should);
        }
      }),
      { numRuns: rounds(5, 12) },
    );
  });
});
