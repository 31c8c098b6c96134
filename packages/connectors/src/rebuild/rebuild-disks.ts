import fs from 'node:fs';
import { checkLayout, countOf, escapePath, formatBytes, formatList, joinPath, proposeLayout, type Layout } from '@lithodex/core';
import { EngineError } from '@lithodex/engine';
import { ServerPoint, type DisksTo, type ServerSystem } from '@lithodex/kinds';
import type { RestoreContext, RestoreOutcome, RestorePick } from '../connector';
import { Destination } from '../files/destination';
import { restoreFiles } from '../files/restore-files';
import { SourceError } from '../source-error';
import { takeApart } from './staged-tree';
import { writeDisk } from './write-disks';

const mebibyte = 1 << 20;

/** The layout of a server on disks. Throws REBUILD_FAILED with what stands against it. */
function layoutOf(system: ServerSystem, { disks }: DisksTo): Layout {
  const machine = { firmware: 'uefi' as const, disks: disks.map((d) => ({ ...d, serial: '', holds: '' })) };
  const layout = proposeLayout(system, machine);
  const [stops] = checkLayout(system, machine, layout).filter((c) => c.level === 'stop');
  if (stops) throw new SourceError('REBUILD_FAILED', stops.text.replace(/\.$/, ''));
  return layout;
}

/** Says which task a folder is made by. */
const mark = '.made-by';

/** Opens the new folder of the disks. What an attempt before left of the same task is removed; what anybody else has there is not touched. Throws REBUILD_FAILED, OUT_OF_BOUNDS. */
function newFolder({ taskId, limits }: RestoreContext, folder: string): Destination {
  const there = fs.existsSync(Buffer.from(folder, 'latin1'));
  const destination = new Destination({ base: folder, limits, cameFrom: undefined, trial: false });
  const inside = pathOf(destination);
  try {
    const known =
      there && fs.lstatSync(`${inside}/${mark}`, { throwIfNoEntry: false })?.isFile() ? fs.readFileSync(`${inside}/${mark}`, 'utf8') : '';
    if (there && known !== taskId) throw new SourceError('REBUILD_FAILED', 'the folder is there already');
    clear(inside);
    fs.writeFileSync(`${inside}/${mark}`, taskId, { mode: 0o600, flag: 'wx' });
    return destination;
  } catch (error) {
    destination.close();
    throw error;
  }
}

/** The open folder, wherever somebody moves it; programs that are started find it as well. */
const pathOf = ({ base }: Destination) => `/proc/${process.pid}/fd/${base}`;

function clear(folder: string): void {
  for (const name of fs.readdirSync(folder, { encoding: 'buffer' }))
    fs.rmSync(Buffer.concat([Buffer.from(`${folder}/`), name]), { recursive: true, force: true });
}

/**
 * Makes a server anew on disks that are files in a new folder: its files come back first, then each disk gets its table, file systems and files, and its name when it is whole. What is not whole is taken
 * away. Throws NO_SERVER, REBUILD_FAILED, PROGRAM_MISSING.
 */
export async function rebuildDisks(ctx: RestoreContext, [pick]: readonly RestorePick[], to: DisksTo): Promise<RestoreOutcome> {
  const { root } = await pick!.open();
  const facts = ServerPoint.safeParse(root.content.facts).data;
  if (!facts) throw new SourceError('NO_SERVER', 'the point holds no system parts');
  const { system } = facts;
  const layout = layoutOf(system, to);
  if (ctx.trial) return { items: 0, summary: `${countOf(layout.disks.length, 'disk')} could be made; nothing was written` };
  const folder = newFolder(ctx, to.folder);
  const inside = pathOf(folder);
  let whole = false;
  try {
    const { items } = await restoreFiles(ctx, [{ ...pick!, to: '', base: joinPath(to.folder, 'files') }], {
      kind: 'files',
      rule: 'leave',
      stamp: '',
    });
    fs.mkdirSync(`${inside}/volumes`, { mode: 0o700 });
    const staged = takeApart(`${inside}/files`, `${inside}/volumes`, system.volumes);
    const made: string[] = [];
    for (const disk of layout.disks) {
      if (ctx.stopped()) throw new EngineError('STOPPED');
      const { bytes } = to.disks.find((d) => d.id === disk.disk)!;
      await writeWhole(`${inside}/${disk.disk}.raw`, bytes, (file) =>
        writeDisk({ system, layout: disk, file, staged, asItself: to.asItself, phase: ctx.phase }),
      );
      made.push(`${disk.disk}.raw of ${formatBytes(bytes)}`);
    }
    for (const name of ['files', 'volumes', mark]) fs.rmSync(`${inside}/${name}`, { recursive: true });
    whole = true;
    const place = escapePath(to.folder);
    for (const device of layout.without)
      ctx.note({ code: 'LEFT_OUT', path: '', message: `${mountOf(system, device)} has no place on these disks` });
    return { items, summary: `${system.host || 'the server'} stands on ${formatList(made)} in ${place}` };
  } finally {
    if (!whole) {
      clear(inside);
      try {
        fs.rmdirSync(Buffer.from(to.folder, 'latin1'));
      } catch {
        // what somebody has put in its place meanwhile is not ours to remove
      }
    }
    folder.close();
  }
}

const mountOf = ({ volumes }: ServerSystem, device: string) => volumes.find((v) => v.device === device && v.mount !== '')?.mount ?? device;

/** A file of holes that `write` fills, under its name once it is whole and on the disk. */
async function writeWhole(file: string, bytes: number, write: (partial: string) => Promise<void>): Promise<void> {
  const partial = `${file}.partial`;
  fs.writeFileSync(partial, '', { mode: 0o600, flag: 'wx' });
  fs.truncateSync(partial, Math.floor(bytes / mebibyte) * mebibyte);
  await write(partial);
  const fd = fs.openSync(partial, 'r+');
  fs.fsyncSync(fd);
  fs.closeSync(fd);
  fs.renameSync(partial, file);
}
