import { randomBytes } from 'node:crypto';
import fs from 'node:fs';
import { libraryFine, LibraryService } from '@lithodex/standins';
import fc from 'fast-check';
import { afterAll, beforeAll, beforeEach, describe, expect, it } from 'vitest';
import { temporaryFolder } from '../../../../tests/support/nasty-tree';
import type { CartridgeLibrary } from './cartridge-library';
import { Cartridges } from './cartridges';
import type { CartridgePlace } from './place';

const base = temporaryFolder('cartridges');
const service = new LibraryService({ folder: `${base}/library`, token: 'let me in', drives: 2, slots: 8000 });
const { library } = service;
let endpoint = '';
let round = 0;
let place: CartridgePlace;
const MB = 1 << 20;

beforeAll(async () => {
  endpoint = await service.start();
});
beforeEach(() => {
  library.switches = libraryFine;
  newRound();
});
afterAll(async () => {
  await service.stop();
  fs.rmSync(base, { recursive: true });
});

function newRound(): void {
  round++;
  place = { kind: 'cartridges', endpoint, token: 'let me in', barcodes: `S${round}N`, folder: `${base}/set-${round}` };
}
const barcode = (n: number) => `${place.barcodes}${n}`;
const blank = (count: number, capacity = MB) => {
  for (let n = 1; n <= count; n++) library.addNew(barcode(n), capacity);
};
/** The set as another process sees it. */
const open = () => new Cartridges(place);
const forgetFolder = () => {
  fs.rmSync(place.folder, { recursive: true });
};

describe('a set of cartridges', () => {
  it('goes on with the next cartridge when one is full, and asks for another when none is left', async () => {
    blank(3);
    const target = open();
    const packs = Array.from({ length: 8 }, () => randomBytes(300_000));
    for (const [i, pack] of packs.entries()) await target.put(`packs/aa/${i}`, pack);
    expect((await target.states()).map((s) => s.known?.number)).toEqual([0, 1, 2]);
    expect((await target.room()).used).toBe(8 * 300_000);
    for (let i = 8; i < 9; i++) await target.put(`packs/aa/${i}`, randomBytes(300_000));
    await expect(target.put('packs/aa/more', randomBytes(300_000))).rejects.toMatchObject({ code: 'TARGET_FULL' });
    library.addNew(barcode(4), MB);
    await target.put('packs/aa/more', Buffer.from('goes on'));
    for (const [i, pack] of packs.entries()) expect((await open().read(`packs/aa/${i}`)).equals(pack)).toBe(true);
  });

  it('names the cartridge to load when it is on the shelf, and needs none for what is at hand', async () => {
    blank(2);
    const target = open();
    await target.put('packs/aa/1', randomBytes(800_000));
    await target.put('roots/s/t', Buffer.from('root'));
    await target.put('packs/aa/2', randomBytes(800_000));
    library.takeOut(barcode(1));
    await expect(target.read('packs/aa/1')).rejects.toMatchObject({ code: 'CARTRIDGE_AWAY', details: barcode(1) });
    expect((await open().read('roots/s/t')).toString()).toBe('root');
    expect(await open().list('roots/s/')).toEqual(['t']);
    expect(await open().barcodeOf('packs/aa/1')).toBe(barcode(1));
    expect((await open().states()).map((s) => s.seen?.position.at)).toEqual([undefined, 'drive']);
    library.bringIn(barcode(1));
    expect(await target.read('packs/aa/1')).toHaveLength(800_000);
  });

  it('is made again from the cartridges alone', async () => {
    blank(3);
    const target = open();
    for (let i = 0; i < 6; i++) await target.put(`packs/aa/${i}`, Buffer.from(`pack ${i}`.repeat(50_000)));
    await target.putExclusive('roots/s/one', Buffer.from('first'));
    await target.put('roots/s/gone', Buffer.from('gone'));
    await target.put('index/seg', Buffer.from('old'));
    await target.put('index/seg', Buffer.from('new'));
    await target.remove('roots/s/gone');
    await target.remove('packs/aa/2');
    forgetFolder();
    const again = open();
    expect(await again.list('roots/s/')).toEqual(['one']);
    expect((await again.listDeep('packs/')).sort()).toEqual(['aa/0', 'aa/1', 'aa/3', 'aa/4', 'aa/5']);
    expect((await again.read('index/seg')).toString()).toBe('new');
    expect((await again.read('packs/aa/5')).toString()).toBe('pack 5'.repeat(50_000));
    expect(await again.putExclusive('roots/s/one', Buffer.from('late'))).toBe(false);
    await again.put('packs/aa/6', Buffer.from('goes on behind the last'));
    expect((await again.states()).filter((s) => s.known).length).toBe((await target.states()).filter((s) => s.known).length);
  });

  it('uses a cartridge again when nothing on it counts, but not while it says what was removed elsewhere', async () => {
    blank(2);
    const target = open();
    await target.put('packs/aa/1', randomBytes(900_000));
    await target.put('packs/aa/2', randomBytes(900_000));
    await target.remove('packs/aa/2');
    expect((await target.states()).map((s) => s.known?.spent)).toEqual([false, true]);
    await target.remove('packs/aa/1');
    expect((await target.states()).map((s) => s.known?.spent)).toEqual([true, false]);
    await target.put('packs/aa/3', randomBytes(900_000));
    expect(await target.listDeep('packs/')).toEqual(['aa/3']);
    expect((await target.states()).map((s) => [s.barcode, s.known?.number])).toEqual([
      [barcode(2), 1],
      [barcode(1), 2],
    ]);
    forgetFolder();
    expect(await open().listDeep('packs/')).toEqual(['aa/3']);
  });

  it('erases one only once when several want it', async () => {
    blank(1);
    const [first, second] = [open(), open()];
    await first.put('packs/aa/1', randomBytes(900_000));
    await first.remove('packs/aa/1');
    await second.listDeep('packs/');
    const seen = (second as unknown as { library: CartridgeLibrary }).library;
    const read = seen.read.bind(seen);
    let between = 0;
    seen.read = async (...asked) => {
      if (asked[1] === 0 && between++ === 0) await first.put('packs/aa/2', Buffer.alloc(900_000, 2));
      return read(...asked);
    };
    await expect(second.put('packs/aa/3', Buffer.alloc(900_000, 3))).rejects.toMatchObject({ code: 'TARGET_FULL' });
    expect(between).toBe(1);
    expect(await open().listDeep('packs/')).toEqual(['aa/2']);
    expect((await open().read('packs/aa/2')).equals(Buffer.alloc(900_000, 2))).toBe(true);
    expect(() => library.erase(barcode(1), 7)).toThrow('has 2 records');
  });

  it('goes on after whoever erased one was killed before it could say so', async () => {
    blank(1);
    const target = open();
    for (let i = 0; i < 3; i++) await target.put(`packs/aa/${i}`, randomBytes(100_000));
    for (let i = 0; i < 3; i++) await target.remove(`packs/aa/${i}`);
    library.erase(barcode(1), 7);
    const next = open();
    for (let i = 3; i < 6; i++) await next.put(`packs/aa/${i}`, Buffer.alloc(100_000, i));
    for (const set of [next, open()])
      for (let i = 3; i < 6; i++) expect((await set.read(`packs/aa/${i}`)).equals(Buffer.alloc(100_000, i))).toBe(true);
    expect((await open().listDeep('packs/')).sort()).toEqual(['aa/3', 'aa/4', 'aa/5']);
  });

  it('creates a pack once, again after it was removed, and leaves none of it in the folder', async () => {
    blank(2);
    const [one, other] = [open(), open()];
    const created = (bytes: number) => Promise.all([one, other].map((set) => set.putExclusive('packs/aa/1', Buffer.alloc(bytes, 1))));
    expect((await created(1000)).filter(Boolean)).toHaveLength(1);
    expect(await open().putExclusive('packs/aa/1', Buffer.from('late'))).toBe(false);
    await one.remove('packs/aa/1');
    expect(await one.putExclusive('packs/aa/1', Buffer.from('again'))).toBe(true);
    expect((await open().read('packs/aa/1')).toString()).toBe('again');
    expect(fs.readdirSync(`${place.folder}/at-hand`, { recursive: true }).filter((name) => String(name).startsWith('packs/aa/'))).toEqual(
      [],
    );
  });

  it('leaves nothing of what did not fit', async () => {
    blank(1);
    const target = open();
    await expect(target.putExclusive('roots/s/one', Buffer.alloc(2 * MB))).rejects.toMatchObject({ code: 'TARGET_FULL' });
    expect(await open().list('roots/s/')).toEqual([]);
    expect(await target.putExclusive('roots/s/one', Buffer.from('fits'))).toBe(true);
  });

  it('leaves cartridges of others and protected ones alone', async () => {
    blank(3);
    await library.load(barcode(1));
    library.append(barcode(1), Buffer.from('somebody else was here'));
    library.protect(barcode(2), true);
    const target = open();
    await target.put('packs/aa/1', Buffer.from('x'));
    expect(await target.barcodeOf('packs/aa/1')).toBe(barcode(3));
    expect(library.box.cartridges.get(barcode(1))).toMatchObject({ records: 1 });
    expect(library.box.cartridges.get(barcode(2))).toMatchObject({ records: 0 });
  });

  it('says when the library is away, lets nobody in, or a cartridge can not be read', async () => {
    blank(1);
    const target = open();
    await target.put('packs/aa/1', Buffer.from('x'));
    library.switches = { ...libraryFine, worn: [barcode(1)] };
    await expect(target.read('packs/aa/1')).rejects.toMatchObject({ code: 'OBJECT_DAMAGED' });
    library.switches = { ...libraryFine, down: true };
    await expect(target.read('packs/aa/1')).rejects.toMatchObject({ code: 'TARGET_MISSING' });
    await expect(new Cartridges({ ...place, token: 'no' }).list('roots/')).rejects.toMatchObject({ code: 'TARGET_REFUSED' });
    await expect(new Cartridges({ ...place, endpoint: 'http://127.0.0.1:9' }).list('roots/')).rejects.toMatchObject({
      code: 'TARGET_MISSING',
    });
    await expect(target.lock()).rejects.toMatchObject({ code: 'TARGET_REFUSED' });
    library.switches = libraryFine;
    fs.appendFileSync(`${place.folder}/cartridges/${barcode(1)}-0.records`, '{"record":2,"at":');
    expect((await open().read('packs/aa/1')).toString()).toBe('x');
  });

  it('is what was put and not removed, whoever of several wrote it and wherever the folder was lost', async () => {
    const act = fc.oneof(
      fc.record({
        act: fc.constantFrom('put', 'remove', 'create'),
        name: fc.constantFrom('packs/a', 'packs/b', 'roots/a', 'roots/b', 'pins/a'),
        size: fc.nat(200_000),
      }),
      fc.record({ act: fc.constantFrom('other', 'lose'), name: fc.constant(''), size: fc.constant(0) }),
    );
    await fc.assert(
      fc.asyncProperty(fc.array(act, { maxLength: 25 }), async (acts) => {
        newRound();
        blank(40, 400_000);
        const model = new Map<string, Buffer>();
        let target = open();
        for (const [i, { act, name, size }] of acts.entries()) {
          const data = Buffer.alloc(size, i + 1);
          if (act === 'put') {
            await target.put(name, data);
            model.set(name, data);
          } else if (act === 'create') {
            expect(await target.putExclusive(name, data)).toBe(!model.has(name));
            if (!model.has(name)) model.set(name, data);
          } else if (act === 'remove') {
            await target.remove(name);
            model.delete(name);
          } else {
            if (act === 'lose') {
              fs.rmSync(place.folder, { recursive: true, force: true });
              model.delete('pins/a');
            }
            target = open();
          }
        }
        const names = (
          await Promise.all(['packs/', 'roots/', 'pins/'].map(async (p) => (await target.listDeep(p)).map((n) => p + n)))
        ).flat();
        expect(names.sort()).toEqual([...model.keys()].sort());
        for (const [name, data] of model) expect((await target.read(name)).equals(data)).toBe(true);
      }),
      {
        numRuns: 15,
        examples: [
          [
            [
              { act: 'create', name: 'packs/b', size: 100 },
              { act: 'remove', name: 'packs/b', size: 0 },
              { act: 'create', name: 'packs/b', size: 200 },
            ],
          ],
        ],
      },
    );
  });
});
