import { execFileSync } from 'node:child_process';
import fs from 'node:fs';
import os from 'node:os';
import path from 'node:path';
import fc from 'fast-check';
import { afterAll, describe, expect, it } from 'vitest';
import { ovfDescriptor, ovfManifest } from './ovf';
import { qcow2Cluster, qcow2Layout } from './qcow2';
import { alignRanges, batchRanges, lengthOf, type DiskRange } from './ranges';

const size = 1000;
const ranges = fc.array(fc.tuple(fc.nat(size + 50), fc.nat(200)), { maxLength: 12 });
const bytesIn = (list: readonly DiskRange[]) => new Set(list.flatMap(([o, n]) => Array.from({ length: n }, (_, i) => o + i)));

describe('ranges of a disk', () => {
  it('are widened to whole blocks: all that was in them still is, blocks that had nothing are not, and no two touch', () => {
    fc.assert(
      fc.property(ranges, fc.constantFrom(1, 4, 64, 128), (list, block) => {
        const aligned = alignRanges(list, block, size);
        const [wanted, got] = [bytesIn(list), bytesIn(aligned)];
        for (const at of wanted) if (at < size) expect(got.has(at)).toBe(true);
        const touched = new Set([...wanted].filter((at) => at < size).map((at) => Math.floor(at / block)));
        for (const at of got) expect(touched.has(Math.floor(at / block))).toBe(true);
        for (const [i, [offset, length]] of aligned.entries()) {
          expect(offset % block).toBe(0);
          expect(offset + length).toBeLessThanOrEqual(size);
          if (i > 0) expect(offset).toBeGreaterThan(aligned[i - 1]![0] + aligned[i - 1]![1]);
        }
      }),
    );
  });

  it('are dealt out in order into batches that are full but for the last', () => {
    fc.assert(
      fc.property(ranges, fc.constantFrom(64, 192), (list, bytes) => {
        const aligned = alignRanges(list, 64, size);
        const batches = batchRanges(aligned, bytes);
        expect(alignRanges(batches.flat(), 64, size)).toEqual(aligned);
        for (const [i, batch] of batches.entries()) {
          if (i < batches.length - 1) expect(lengthOf(batch)).toBe(bytes);
          else expect(lengthOf(batch)).toBeLessThanOrEqual(bytes);
        }
      }),
    );
  });
});

describe('a QCOW2 image', () => {
  const folder = fs.mkdtempSync(path.join(os.tmpdir(), 'qcow2-'));
  afterAll(() => fs.rmSync(folder, { recursive: true }));

  function write(name: string, diskSize: number, clusters: readonly number[]) {
    const data = Uint32Array.from(clusters);
    const layout = qcow2Layout(diskSize, data);
    const image = path.join(folder, `${name}.qcow2`);
    const raw = path.join(folder, `${name}.raw`);
    const fd = fs.openSync(image, 'w');
    const flat = fs.openSync(raw, 'w');
    fs.ftruncateSync(flat, diskSize);
    for (const part of layout.front()) fs.writeSync(fd, part);
    for (const cluster of data) {
      const content = Buffer.alloc(qcow2Cluster, (cluster % 251) + 1);
      const inside = Math.min(qcow2Cluster, diskSize - cluster * qcow2Cluster);
      fs.writeSync(flat, content, 0, inside, cluster * qcow2Cluster);
      content.fill(0, inside);
      fs.writeSync(fd, content);
    }
    fs.closeSync(fd);
    fs.closeSync(flat);
    return { image, raw, layout };
  }

  it.each([
    ['empty', 10 * qcow2Cluster, []],
    ['of an odd size', 10 * qcow2Cluster + 512, [0, 3, 10]],
    ['far apart', 200_000 * qcow2Cluster, [0, 1, 8191, 8192, 50_000, 199_999]],
    ['dense', 3000 * qcow2Cluster, Array.from({ length: 3000 }, (_, i) => i)],
  ])('is sound and the same as the disk: %s', (name, diskSize, clusters) => {
    const { image, raw, layout } = write(name, diskSize, clusters);
    expect(fs.statSync(image).size).toBe(layout.fileSize);
    execFileSync('qemu-img', ['check', '-f', 'qcow2', image], { stdio: 'pipe' });
    expect(execFileSync('qemu-img', ['compare', '-f', 'qcow2', '-F', 'raw', image, raw], { encoding: 'utf8' })).toContain('identical');
  });
});

describe('a package of a machine', () => {
  it('describes disks and networks, with names escaped', () => {
    const text = ovfDescriptor({
      name: 'gate <1> & "co"\u0000',
      processors: 2,
      memory: 2048,
      firmware: 'efi',
      system: 'Linux',
      networks: ['quay', 'quay'],
      note: '',
      disks: [{ file: 'system.qcow2', fileSize: 10, size: 20 }],
    });
    expect(text).toContain('<Name>gate &lt;1&gt; &amp; &quot;co&quot;</Name>');
    expect(text).toContain('ovf:capacity="20"');
    expect(text.match(/<Network /g)).toHaveLength(1);
    expect(text.match(/<rasd:Connection>quay/g)).toHaveLength(2);
    expect(ovfManifest([{ file: 'a.ovf', sha256: '00' }])).toBe('SHA256(a.ovf)= 00\n');
  });
});
