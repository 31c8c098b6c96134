import fs from 'node:fs';
import koffi from 'koffi';

const libc = koffi.load('libc.so.6');
const lseek = libc.func('int64_t lseek(int, int64_t, int)') as (fd: number, offset: number, whence: number) => number | bigint;
const seekData = 3;
const seekHole = 4;

/** Calls `visit` with every stretch of an open file that is not a hole, in bytes. */
export function visitData(fd: number, visit: (from: number, to: number) => void): void {
  const { size } = fs.fstatSync(fd);
  for (let at = 0; at < size;) {
    const from = Number(lseek(fd, at, seekData));
    if (from < 0) return;
    const to = Math.min(size, Number(lseek(fd, from, seekHole)));
    visit(from, to);
    at = to;
  }
}
