import fs from 'node:fs';
import { inProcess } from './measured';
import type { Kept } from './result';
import { Content } from './sample-tree';

const peakLimit = 512;
const block = 1 << 20;

/** A file of so many blocks of 1 MiB, none of them like another. */
function writeLarge(path: string, blocks: number, content: Content): void {
  const fd = fs.openSync(path, 'w');
  for (let n = 0; n < blocks; n++) fs.writeSync(fd, content.piece(n % 2 === 0, block));
  fs.closeSync(fd);
}

/** What the store promises of memory and of data it holds already, each on a source of its own. */
export function promiseBenches(folder: string, wanted: (name: string) => boolean, report: (k: Kept) => void): void {
  const tree = `${folder}/tree`;
  const onFresh = (make: () => void, act: () => void) => {
    fs.mkdirSync(tree);
    try {
      make();
      act();
    } finally {
      for (const name of ['tree', 'store', 'key']) fs.rmSync(`${folder}/${name}`, { recursive: true, force: true });
    }
  };
  const peak = (source: string) => {
    report({ bench: `memory, ${source}`, found: inProcess('point', folder, 'first').peakMb, below: peakLimit, unit: 'MB' });
    report({
      bench: `memory, ${source}, again`,
      found: inProcess('point', folder, 'second', 'first').peakMb,
      below: peakLimit,
      unit: 'MB',
    });
  };
  if (wanted('known-data')) {
    const file = `${tree}/survey`;
    onFresh(
      () => {
        writeLarge(file, 500, new Content());
      },
      () => {
        const first = inProcess('point', folder, 'first');
        const again = inProcess('point', folder, 'again');
        report({ bench: 'second full, share stored anew', found: (100 * again.stored) / first.stored, below: 1, unit: '%' });
        fs.writeFileSync(`${file}-shifted`, '-');
        const out = fs.openSync(`${file}-shifted`, 'a');
        for (let at = 0, part = fs.readFileSync(file); at < part.length; at += block) fs.writeSync(out, part.subarray(at, at + block));
        fs.closeSync(out);
        fs.renameSync(`${file}-shifted`, file);
        const fresh = inProcess('point', folder, 'shifted').chunks - again.chunks;
        // the node of the folder is new as well
        report({ bench: 'byte put before 500 MB, new chunks', found: fresh - 1, below: 3, unit: 'chunks' });
      },
    );
  }
  if (!wanted('memory')) return;
  onFresh(
    () => {
      const content = new Content();
      for (let i = 0; i < 10; i++) writeLarge(`${tree}/volume-${i}`, 2000, content);
    },
    () => {
      peak('20 GB source');
    },
  );
  onFresh(
    () => {
      for (let dir = 0; dir < 2000; dir++) {
        fs.mkdirSync(`${tree}/${dir}`);
        for (let i = 0; i < 500; i++) fs.writeFileSync(`${tree}/${dir}/notice-${i}`, `notice ${dir}-${i}`);
      }
    },
    () => {
      peak('1 million files');
    },
  );
}
