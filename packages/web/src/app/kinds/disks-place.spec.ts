import { TestBed } from '@angular/core/testing';
import { describe, expect, it } from 'vitest';
import { DisksPlace, disksOf } from './disks-place';

describe('sizes of disks', () => {
  it('are read as people write them, the first is the one it starts from', () => {
    expect(disksOf('64 GB, 1.5 TB')).toEqual([
      { id: 'A', bytes: 64e9, first: true },
      { id: 'B', bytes: 1.5e12, first: false },
    ]);
    expect(disksOf('500gb and 800 MB')).toMatchObject([{ bytes: 5e11 }, { bytes: 8e8 }]);
  });

  it('are none where one of them is not said', () => {
    for (const text of ['', '64', '64 GB, large', '-1 GB', '0 GB', Array.from({ length: 17 }, () => '1 GB').join(', ')])
      expect(disksOf(text)).toBeUndefined();
  });
});

describe('disks in the sentence of a restore', () => {
  it('are sent once their sizes and their folder are said', async () => {
    const sent: unknown[] = [];
    const fixture = TestBed.createComponent(DisksPlace);
    fixture.componentRef.setInput('changed', (destination: unknown) => sent.push(destination));
    await fixture.whenStable();
    expect(sent.at(-1)).toBeNull();
    const write = async (label: string, text: string) => {
      const field = (fixture.nativeElement as HTMLElement).querySelector<HTMLInputElement>(`[aria-label="${label}"]`)!;
      field.value = text;
      field.dispatchEvent(new Event('input'));
      await fixture.whenStable();
    };
    await write('Sizes of the disks', '64 GB');
    expect(sent.at(-1)).toBeNull();
    await write('Folder of the disks', '/srv/returned');
    expect(sent.at(-1)).toEqual({ to: 'disks', folder: '/srv/returned', disks: [{ id: 'A', bytes: 64e9, first: true }], asItself: true });
  });
});
