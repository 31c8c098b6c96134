import { TestBed } from '@angular/core/testing';
import { describe, expect, it } from 'vitest';
import type { RestorePlan } from '@lithodex/contract';
import { show } from '../../test/stage';
import { FolderOwn } from './folder-own';
import { FolderPlace } from './folder-place';
import type { Destination } from './kind-parts';
import { OwnFolders } from './own-folders';

const item = { pick: { pointId: 'p1', path: 'books/roster.csv' }, name: 'roster.csv' } as RestorePlan['items'][number];

describe('another place for one of the files that are restored', () => {
  it('is a path below the folder, taken back by emptying it', async () => {
    const s = await show(FolderOwn, { item });
    const owns = TestBed.inject(OwnFolders);
    await s.choose('[aria-label="Another place for roster.csv"]', ' /monday/list.csv/ ');
    expect(owns.all()).toEqual([{ pointId: 'p1', path: 'books/roster.csv', as: 'monday/list.csv' }]);
    await s.choose('input', '');
    expect(owns.all()).toEqual([]);
  });

  it('goes with the destination', async () => {
    const told: (Destination | null)[] = [];
    const s = await show(FolderPlace, { changed: (d: Destination | null) => told.push(d) });
    await s.type('[aria-label=Folder]', '/srv/back');
    TestBed.inject(OwnFolders).set(item.pick, 'other');
    await s.until(() => {
      expect(told.at(-1)).toEqual({ to: 'folder', folder: '/srv/back', keepPath: true, exceptions: [{ ...item.pick, as: 'other' }] });
    });
  });
});
