import { describe, expect, it } from 'vitest';
import { treeRow, uuid } from '../../test/samples';
import { show, type Call } from '../../test/stage';
import { FolderTree } from './folder-tree';

const folders: Record<string, string[]> = {
  '': ['plans', 'books'],
  plans: ['plans/north', 'plans/south'],
  'plans/north': ['plans/north/old'],
};
const tree = (call: Call) => {
  const path = (call.query?.['path'] ?? '') as string;
  const rows = (folders[path] ?? []).map((p) =>
    treeRow(p.slice(p.lastIndexOf('/') + 1), {
      path: p,
      kind: 'folder',
      items: 100,
      strip: { same: 49, changed: 50, gone: 1, suspect: 0 },
    }),
  );
  return { path, rows: [...rows, treeRow('a-file')], next: null, notLookedAt: false, inside: false };
};
const stage = () => show(FolderTree, { pointId: uuid(1), path: '', bytes: 5e9 }, { answers: { tree } });
const lines = (s: { all(q: string): HTMLElement[] }) => s.all('.r .cut').map((l) => l.textContent.trim());

describe('the folder tree', () => {
  it('opens a folder where it stands and closes it with all below', async () => {
    const s = await stage();
    expect(lines(s)).toEqual(['▸ plans', '▸ books']);
    await s.click(s.all('.r')[1]!);
    await s.click(s.all('.r')[2]!);
    expect(lines(s)).toEqual(['▾ plans', '▾ north', '▸ old', '▸ south', '▸ books']);
    expect(s.all('[aria-selected=true]')).toHaveLength(1);
    await s.click(s.all('.r')[1]!);
    expect(lines(s)).toEqual(['▾ plans', '▾ north', '▸ old', '▸ south', '▸ books']);
    await s.click(s.all('.r')[1]!);
    expect(lines(s)).toEqual(['▸ plans', '▸ books']);
  });

  it('opens the same folders again in another point', async () => {
    const s = await stage();
    await s.click(s.all('.r')[1]!);
    await s.set('pointId', uuid(2));
    expect(lines(s)).toEqual(['▾ plans', '▸ north', '▸ south', '▸ books']);
    expect(s.api.of('tree').filter((c) => c.id === uuid(2))).toHaveLength(2);
  });

  it('draws what became of each folder, a small part still to be seen', async () => {
    const s = await stage();
    const strip = s.one('.strip');
    expect(strip.title).toBe('since then: 49 the same, 50 changed, 1 gone, 0 suspect');
    expect([...strip.children].map((c) => [c.className, (c as HTMLElement).style.width])).toEqual([
      ['gone', '3%'],
      ['changed', '50%'],
    ]);
  });
});
