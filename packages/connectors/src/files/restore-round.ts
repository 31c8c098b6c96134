import fs from 'node:fs';
import { countOf, formatBytes, formatFirst } from '@lithodex/core';
import { inFolder } from '@lithodex/engine';
import type { FilesTo } from '@lithodex/kinds';
import { z } from 'zod';
import type { RestoreContext, RestoreOutcome, RestorePick } from '../connector';
import { SourceError } from '../source-error';
import { Destination } from './destination';
import { removeTree } from './remove-tree';
import { restoreFiles } from './restore-files';

/** Folders that earlier times have made. */
const Made = z.object({ made: z.array(z.string().regex(/^(?!\.{1,2}$)[^/\0]+$/)).max(10_000) });
const mostBytes = 1 << 20;

/** What a restore that is repeated remembers beside what it brought, in a file that is its own. */
class RoundBook {
  private readonly file: Buffer;

  constructor(folder: number, id: string) {
    this.file = inFolder(folder, `.lithodex-standing-${id}.json`);
  }

  /** What somebody else wrote there is nothing. */
  read(): readonly string[] {
    let fd: number;
    try {
      fd = fs.openSync(this.file, fs.constants.O_RDONLY | fs.constants.O_NOFOLLOW | fs.constants.O_NONBLOCK);
    } catch {
      return [];
    }
    try {
      const { size, uid } = fs.fstatSync(fd);
      if (uid !== process.getuid?.() || size > mostBytes) return [];
      return Made.safeParse(JSON.parse(fs.readFileSync(fd, 'utf8'))).data?.made ?? [];
    } catch {
      return [];
    } finally {
      fs.closeSync(fd);
    }
  }

  write(made: readonly string[]): void {
    const temporary = Buffer.concat([this.file, Buffer.from('.new')]);
    fs.rmSync(temporary, { force: true });
    fs.writeFileSync(temporary, JSON.stringify({ made }), { mode: 0o600, flag: 'wx' });
    fs.renameSync(temporary, this.file);
  }
}

/** Restores into a folder of its own, reads all of it again, and takes away what earlier times have brought. What fails leaves those as they are. */
export async function restoreRound(
  ctx: RestoreContext,
  picks: readonly RestorePick[],
  to: FilesTo,
  { id, folder, name }: NonNullable<FilesTo['round']>,
): Promise<RestoreOutcome> {
  const parent = new Destination({ base: folder, limits: ctx.limits, cameFrom: undefined, trial: false });
  try {
    const book = new RoundBook(parent.base, id);
    const earlier = book.read().filter((other) => other !== name);
    book.write([...earlier, name]);
    let failed = 0;
    const done: RestoreContext['done'] = (item) => {
      if (item.action === 'failed') failed++;
      ctx.done(item);
    };
    const outcome = await restoreFiles({ ...ctx, done }, picks, to);
    if (failed) throw new SourceError('NOT_AS_STORED', countOf(failed, 'item'));
    const read = await readAgain(ctx, picks, to);
    ctx.phase('taking away');
    for (const other of earlier) removeTree(parent.base, other);
    book.write([name]);
    const gone = earlier.length ? `taken away: ${formatFirst(earlier, 3)}` : 'there was nothing from a time before';
    ctx.note({
      code: 'EVIDENCE',
      path: '',
      message: `${countOf(read.files, 'file')} of ${formatBytes(read.bytes)} read again, each as it was stored; ${gone}`,
    });
    return outcome;
  } finally {
    parent.close();
  }
}

/** Throws NOT_AS_STORED where a file is not what the point holds. */
async function readAgain(ctx: RestoreContext, picks: readonly RestorePick[], to: FilesTo): Promise<{ files: number; bytes: number }> {
  let files = 0;
  let bytes = 0;
  let other = '';
  await restoreFiles(
    {
      ...ctx,
      trial: true,
      phase: () => {
        ctx.phase('reading again');
      },
      drain: () => undefined,
      done: (item) => {
        if (item.kind !== 'file') return;
        files++;
        bytes += item.bytes;
        if (item.action !== 'same') other ||= item.path;
      },
    },
    picks,
    { ...to, rule: 'leave' },
  );
  if (other) throw new SourceError('NOT_AS_STORED', other);
  return { files, bytes };
}
