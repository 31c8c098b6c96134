import { describe, expect, it } from 'vitest';
import { ExfatFileSystem } from './fat/exfat';
import { NtfsFileSystem } from './ntfs/ntfs';
import { contentOf, differences, fixture, walk } from './testing/images';
import { XfsFileSystem } from './xfs/xfs';

const hex = (text: string) => Buffer.from(text).toString('hex');

describe('XFS', () => {
  it.each(['xfs4', 'xfs5'])('reads what its own tools wrote (%s)', async (name) => {
    const system = await XfsFileSystem.open(fixture(name));
    const found = await walk(system);
    expect(await differences(system, found)).toEqual([]);
    expect(found.get(name === 'xfs4' ? 'link' : 'papers/link') ?? found.get('papers/link')).toMatchObject({ item: { kind: 'link' } });
    expect(found.get('papers/fifo')?.item.kind).toBe('fifo');
  });

  it('knows owners, times beyond 2038, devices, long links, attributes and access lists', async () => {
    const found = await walk(await XfsFileSystem.open(fixture('xfs5')));
    const { item, attributes } = found.get('papers/pieces')!;
    expect(item).toMatchObject({ uid: 1234, gid: 5678, mtimeNs: 1_795_953_600_123_456_789n });
    expect(attributes['user.large']).toBe(hex('v'.repeat(3000)));
    expect(attributes['system.posix_acl_access']).toMatch(/^02000000010006/);
    expect(Object.keys(found.get('papers/long.log')!.attributes)).toHaveLength(40);
    expect(found.get('papers/long.log')!.attributes['user.attribute-17']).toBe(hex('value 17 of this file'));
    expect(found.get('papers/2026')!.item.mtimeNs).toBe(BigInt(Date.UTC(2242, 0, 1)) * 1_000_000n);
    expect(found.get('papers/device')!.item).toMatchObject({ kind: 'char', device: 0x10042c });
    expect(found.get('papers/long-link')!.linkTarget).toBe(`${'far/'.repeat(100)}away`);
    expect(found.get('papers/linked.log')!.item).toMatchObject({ linked: true, key: found.get('papers/long.log')!.item.key });
  });

  it('leaves out the holes of a file that lies in many pieces', async () => {
    const system = await XfsFileSystem.open(fixture('xfs5'));
    const { item } = (await walk(system)).get('papers/pieces')!;
    const { ranges } = await system.detail(item);
    expect(ranges!.length).toBeGreaterThan(150);
    expect(ranges!.reduce((sum, [, length]) => sum + length, 0)).toBeLessThan(item.size * 0.6);
  });
});

describe('NTFS', () => {
  const open = async () => {
    const system = await NtfsFileSystem.open(fixture('ntfs'));
    return { system, found: await walk(system) };
  };

  it('reads what was written to it: packed, sparse, in folders of many, with long names', async () => {
    const { system, found } = await open();
    expect(await differences(system, found)).toEqual([]);
    expect(await system.label()).toBe('Quay');
    expect([...found.keys()].filter((p) => p.startsWith('many/'))).toHaveLength(900);
  });

  it('shows further streams beside their file, and links where they lead', async () => {
    const { system, found } = await open();
    const stream = found.get('papers/random.bin:note')!;
    expect((await contentOf(system, stream.item)).toString()).toBe('a second stream');
    expect(found.get('papers/link')!.linkTarget).toBe('../many/paper number 7 of the harbour office.txt');
    expect(found.get('junction')).toMatchObject({ item: { kind: 'link' }, linkTarget: 'C:/papers' });
    expect(found.get('papers/linked.log')!.item.linked).toBe(true);
  });

  it('hides the files of the file system itself', async () => {
    const { found } = await open();
    expect([...found.keys()].filter((p) => p.startsWith('$') || p === '.')).toEqual([]);
  });
});

describe('exFAT', () => {
  it('reads what a kernel wrote to it', async () => {
    const system = await ExfatFileSystem.open(fixture('exfat'));
    const found = await walk(system);
    expect(await differences(system, found)).toEqual([]);
    expect(found.get('empty')?.item.kind).toBe('folder');
  });
});
