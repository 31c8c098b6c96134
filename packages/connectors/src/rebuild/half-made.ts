import fs from 'node:fs';

/** Between the partition table and the first partition, which begins at 1 MiB at the earliest. */
const markAt = 512 << 10;
const markBytes = 512;
const begins = 'lithodex makes this disk anew: ';

/** Says on a disk that a task began to make it anew, so that the task knows it again after a power cut. */
export function markHalfMade(file: string, taskId: string): void {
  written(file, Buffer.alloc(markBytes).fill(`${begins}${taskId}\n`, 0, begins.length + taskId.length + 1));
}

/** Says on a disk that nothing is half made on it. */
export function clearHalfMade(file: string): void {
  written(file, Buffer.alloc(markBytes));
}

/** The task that began to make a disk anew, and did not end; undefined for none. */
export function halfMadeBy(file: string): string | undefined {
  const mark = Buffer.alloc(markBytes);
  const fd = fs.openSync(file, 'r');
  try {
    fs.readSync(fd, mark, 0, markBytes, markAt);
  } finally {
    fs.closeSync(fd);
  }
  const [line = ''] = mark.toString('latin1').split('\n', 1);
  return line.startsWith(begins) ? line.slice(begins.length) : undefined;
}

/** The tasks that are known, by disk. */
export function knownOf(marks: readonly (readonly [string, string | undefined])[]): ReadonlyMap<string, string> {
  return new Map(marks.flatMap(([disk, task]) => (task === undefined ? [] : [[disk, task]])));
}

function written(file: string, mark: Buffer): void {
  const fd = fs.openSync(file, 'r+');
  try {
    fs.writeSync(fd, mark, 0, markBytes, markAt);
    fs.fsyncSync(fd);
  } finally {
    fs.closeSync(fd);
  }
}
