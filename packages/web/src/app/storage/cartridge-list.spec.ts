import type { Cartridge } from '@lithodex/contract';
import { TestBed } from '@angular/core/testing';
import { describe, expect, it } from 'vitest';
import { uuid } from '../../test/samples';
import { open, words } from '../../test/stage';
import { detail } from '../../test/target-detail';

const cartridge = (barcode: string, more: Partial<Cartridge> = {}): Cartridge => ({
  barcode,
  number: 1,
  where: 'drive 1',
  here: true,
  capacity: 100e6,
  used: 90e6,
  live: 60e6,
  writeProtected: false,
  spent: false,
  ...more,
});
const place = { kind: 'cartridges' as const, endpoint: 'http://library.example', barcodes: 'KH', folder: '/var/set' };
const stage = async (rows: Cartridge[]) => {
  TestBed.resetTestingModule();
  return open(`/storage/${uuid(1)}`, { answers: { getTarget: detail({ place }), cartridges: { rows }, listTargets: { rows: [] } } });
};

describe('the cartridges of a target', () => {
  it('say where each is, how much of it counts, and what has to be loaded', async () => {
    const s = await stage([
      cartridge('KH0041', { here: false, where: 'on the shelf', capacity: null }),
      cartridge('KH0042', { number: 2, writeProtected: true }),
      cartridge('KH0043', { number: null, where: 'slot 4', used: 0, live: 0 }),
    ]);
    expect(words(s.one('lx-cartridge-list'))).toContain('KH0041 is on the shelf. 1 cartridge can still be begun.');
    expect(s.all('lx-cartridge-list tr').map(words)).toEqual([
      'KH0041 on the shelf 60.0 MB',
      'KH0042 drive 1, protected 60.0 MB',
      'KH0043 slot 4 empty',
    ]);
    expect(s.one('lx-cartridge-list .level').title).toBe('90 MB written, 60 MB still count');
    expect(s.text()).toContain("Cartridges can't be locked by a date.");
  });

  it('ask for an empty one when none is left, and count a spent one as empty', async () => {
    expect((await stage([cartridge('KH0041')])).text()).toContain('No empty one is left in the library');
    expect((await stage([cartridge('KH0041', { spent: true, live: 0 })])).text()).toContain('1 cartridge can still be begun.');
  });
});
