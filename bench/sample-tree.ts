import fs from 'node:fs';

/** Numbers that look random, the same every time (xorshift, G. Marsaglia 2003). */
function numbers(seed: number): () => number {
  let x = seed;
  return () => {
    x ^= x << 13;
    x ^= x >>> 17;
    x ^= x << 5;
    return x >>> 0;
  };
}

const syllables = 'ba be bo da de do fa fe ka ki ko la le li lo ma me mi na ne no pa pe ra re ri ro sa se si ta te ti to va ve'.split(' ');

/** What a server holds: prose, logs and numbers that compress about threefold, and content that is compressed already. */
export class Content {
  private readonly words: Uint8Array[];
  /** Words by how often they come: frequent ones fill more places, as in a language. */
  private readonly drawn: Uint16Array;
  private readonly out = Buffer.alloc((4 << 20) + 64);

  private readonly next: () => number;

  constructor(seed = 7) {
    this.next = numbers(seed);
    const word = () => Array.from({ length: 1 + (this.next() % 4) }, () => syllables[this.next() % syllables.length]).join('');
    this.words = Array.from({ length: 4096 }, () => Buffer.from(`${word()} `));
    this.drawn = Uint16Array.from({ length: 65_536 }, (_, i) => Math.floor(this.words.length ** (i / 65_536)) - 1);
  }

  /** Text of at most 4 MiB: a view that stands until the next call. */
  text(size: number): Buffer {
    const { out, words, drawn } = this;
    for (let at = 0; at < size;) {
      const n = this.next();
      if ((n & 15) < 14) {
        const word = words[drawn[n >>> 16]!]!;
        // eslint-disable-next-line @typescript-eslint/prefer-for-of -- iterating a buffer takes ten times as long
        for (let i = 0; i < word.length; i++) out[at++] = word[i]!;
      } else at += out.write((n & 15) === 14 ? `${n >>> 4};` : `\n${1_700_000_000 + (at >>> 6)} `, at, 'latin1');
    }
    return out.subarray(0, size);
  }

  /** Bytes that do not compress, at most 4 MiB: a view that stands until the next call. */
  compressed(size: number): Buffer {
    const words = new Uint32Array(this.out.buffer, this.out.byteOffset, Math.ceil(size / 4));
    for (const i of words.keys()) words[i] = this.next();
    return this.out.subarray(0, size);
  }

  piece(compressed: boolean, size: number): Buffer {
    return compressed ? this.compressed(size) : this.text(size);
  }

  below(limit: number): number {
    return this.next() % limit;
  }
}

/** A tree of small files (1–16 KiB) and some large ones, every other one compressed already; the same every time, and nothing in common with that of another `seed`. */
export function makeSampleTree(folder: string, small: number, largeBytes: number, seed?: number): { files: number; bytes: number } {
  const content = new Content(seed);
  let files = 0;
  let bytes = 0;
  for (let i = 0; i < small; i++) {
    const dir = `${folder}/small/${Math.floor(i / 200)}`;
    if (i % 200 === 0) fs.mkdirSync(dir, { recursive: true });
    const data = content.piece(i % 2 === 0, 1024 + content.below(15_360));
    fs.writeFileSync(`${dir}/file-${i}`, data);
    files++;
    bytes += data.length;
  }
  fs.mkdirSync(`${folder}/large`, { recursive: true });
  for (let left = largeBytes, i = 0; left > 0; i++) {
    const size = Math.min(left, 1_000_000 * (i % 5 === 0 ? 120 : 8));
    const fd = fs.openSync(`${folder}/large/file-${i}`, 'w');
    for (let have = 0; have < size; have += 4 << 20) fs.writeSync(fd, content.piece(i % 2 === 0, Math.min(4 << 20, size - have)));
    fs.closeSync(fd);
    files++;
    bytes += size;
    left -= size;
  }
  return { files, bytes };
}

const runBytes = 256 << 10;

/** Changes one in a hundred bytes: every hundredth small file as a whole, and in each large one runs of 256 KiB at most, as a database or a mail store does. */
export function changeOnePercent(folder: string, round: number): void {
  for (const dir of fs.readdirSync(`${folder}/small`))
    for (const [i, name] of fs.readdirSync(`${folder}/small/${dir}`).entries())
      if (i % 100 === 0) fs.writeFileSync(`${folder}/small/${dir}/${name}`, `changed in round ${round} ${name} `.repeat(200));
  const below = numbers(round + 1);
  for (const name of fs.readdirSync(`${folder}/large`)) {
    const fd = fs.openSync(`${folder}/large/${name}`, 'r+');
    const { size } = fs.fstatSync(fd);
    for (let left = Math.floor(size / 100); left > 0; left -= runBytes) {
      const run = Buffer.alloc(Math.min(left, runBytes), `page of round ${round}, ${left} `);
      fs.writeSync(fd, run, 0, run.length, below() % (size - run.length));
    }
    fs.closeSync(fd);
  }
}
