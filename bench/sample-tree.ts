import fs from 'node:fs';

/** A tree of small files (1–16 KiB, half of each compressible) and some large ones; the same every time. */
export function makeSampleTree(folder: string, small: number, largeBytes: number): { files: number; bytes: number } {
  let state = 7;
  const next = () => (state = (Math.imul(state, 1664525) + 1013904223) >>> 0);
  const noise = Buffer.alloc(1 << 22);
  for (let i = 0; i < noise.length; i++) noise[i] = next() >>> 17;
  const text = Buffer.from('the tide gauge reads one metre eighty at the inner mole; '.repeat(20_000));
  const piece = (size: number): Buffer => {
    const half = size >> 1;
    const at = next() % (noise.length - half);
    return Buffer.concat([noise.subarray(at, at + half), text.subarray(next() % 1000, (next() % 1000) + half)]);
  };
  let files = 0;
  let bytes = 0;
  const write = (path: string, data: Buffer) => {
    fs.writeFileSync(path, data);
    files++;
    bytes += data.length;
  };
  for (let i = 0; i < small; i++) {
    const dir = `${folder}/small/${Math.floor(i / 200)}`;
    if (i % 200 === 0) fs.mkdirSync(dir, { recursive: true });
    write(`${dir}/file-${i}`, piece(1024 + (next() % 15_360)));
  }
  fs.mkdirSync(`${folder}/large`, { recursive: true });
  for (let left = largeBytes, i = 0; left > 0; i++) {
    const size = Math.min(left, 1_000_000 * (i % 5 === 0 ? 120 : 8));
    const parts: Buffer[] = [];
    for (let have = 0; have < size; have += 400_000) parts.push(piece(Math.min(400_000, size - have)));
    write(`${folder}/large/file-${i}`, Buffer.concat(parts));
    left -= size;
  }
  return { files, bytes };
}

/** Rewrites every hundredth small file. */
export function changeOnePercent(folder: string, round: number): void {
  for (const dir of fs.readdirSync(`${folder}/small`))
    for (const [i, name] of fs.readdirSync(`${folder}/small/${dir}`).entries())
      if (i % 100 === 0) fs.writeFileSync(`${folder}/small/${dir}/${name}`, `changed in round ${round} ${name} `.repeat(200));
}
