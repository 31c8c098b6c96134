import { finished } from 'node:stream/promises';
import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { SourceError } from '../source-error';
import { nanoseconds, VolumeListing } from './volume-listing';

const row = (type: string, path: string, more: Partial<Record<'size' | 'links' | 'link', string>> = {}) =>
  [
    type,
    '644',
    '10',
    '20',
    more.size ?? '5',
    '1700000000.1234567890',
    '1700000001.5',
    '77',
    more.links ?? '1',
    '9',
    more.link ?? '',
    path,
    '',
  ].join('\0');

async function listed(...parts: readonly string[]): Promise<VolumeListing> {
  const listing = new VolumeListing();
  const done = finished(listing);
  for (const part of parts) listing.write(Buffer.from(part, 'latin1'));
  listing.end();
  await done;
  return listing;
}

describe('the listing of a volume', () => {
  it('is the same tree however it is cut on its way', async () => {
    const text =
      row('d', 'a') +
      row('f', 'a/x\xe6\n', { links: '2' }) +
      row('l', 'a/to', { link: '../b' }) +
      row('s', 'socket') +
      row('d', 'lost+found');
    await fc.assert(
      fc.asyncProperty(fc.array(fc.nat(text.length), { maxLength: 6 }), async (cuts) => {
        const at = [0, ...cuts.sort((a, b) => a - b), text.length];
        const { top, skipped, items } = await listed(...at.slice(1).map((to, i) => text.slice(at[i], to)));
        expect([skipped, items, [...top.keys()]]).toEqual([1, 3, ['a']]);
        const file = top.get('a')!.below!.get('x\xe6\n')!;
        expect(file).toMatchObject({
          kind: 'file',
          mode: 0o644,
          uid: 10,
          gid: 20,
          size: 5,
          mtimeNs: 1_700_000_000_123_456_789n,
          hardId: '9:77',
        });
        expect(top.get('a')!.below!.get('to')!.linkTarget).toBe('../b');
      }),
    );
  });

  it.each([
    ['ends in the middle', row('f', 'a').slice(0, -4)],
    ['leads up', row('f', '../a')],
    ['leads to the root', row('f', '/etc/passwd')],
    ['names an item before its folder', row('f', 'a/b')],
    ['has a size that is none', row('f', 'a', { size: '-1' })],
    ['never ends a field', 'x'.repeat(200_000)],
  ])('is refused where it %s', async (_, text) => {
    await expect(listed(text)).rejects.toBeInstanceOf(SourceError);
  });

  it('is read or refused, whatever bytes come', async () => {
    await fc.assert(
      fc.asyncProperty(fc.uint8Array({ maxLength: 300 }), async (bytes) => {
        try {
          await listed(Buffer.from(bytes).toString('latin1'));
        } catch (error) {
          expect(error).toBeInstanceOf(SourceError);
        }
      }),
    );
  });

  it('tells times to the nanosecond, also those before 1970', () => {
    expect(nanoseconds('1.5')).toBe(1_500_000_000n);
    expect(nanoseconds('-1.5')).toBe(-1_500_000_000n);
    expect(() => nanoseconds('soon')).toThrow(SourceError);
  });
});
