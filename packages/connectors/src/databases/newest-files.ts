import fs from 'node:fs';
import path from 'node:path';
import { itemNameOf } from '@lithodex/core';
import { EngineError, type TreeEntry } from '@lithodex/engine';
import { filesItem } from '@lithodex/kinds';
import type { NewestWritten, OpenPoint } from '../connector';
import { contentOf } from './stored-content';

/** Folder beside a store, with a folder for each workload whose newest dump is kept there. */
const newest = 'newest';
const [onlyOwnFolder, onlyOwnFile] = [0o700, 0o600];

/**
 * Writes the text of a point as ordinary files beside its store, in a folder of the workload's own, which takes the place of the one before when all of it is there. Files that are as they were are
 * linked, not written again. Throws the system's error, OBJECT_DAMAGED, STOPPED.
 * @param target folder of the store, text
 */
export async function writeNewest(
  { store, top }: Pick<OpenPoint, 'store' | 'top'>,
  target: string,
  workload: { readonly id: string; readonly name: string },
  stopped: () => boolean,
): Promise<NewestWritten> {
  const base = path.join(target, newest);
  fs.mkdirSync(base, { recursive: true, mode: onlyOwnFolder });
  if (!fs.lstatSync(base).isDirectory()) throw new EngineError('LEADS_AWAY', `${base} is no folder`);
  const name = `${itemNameOf(workload.name)}.${workload.id}`;
  const final = path.join(base, name);
  const own = `.${name}.`;
  // what an attempt before has left
  for (const left of fs.readdirSync(base)) if (left.startsWith(own)) fs.rmSync(path.join(base, left), { recursive: true, force: true });
  const fresh = fs.mkdtempSync(path.join(base, own));
  const written = { files: 0, bytes: 0 };
  const write = async (entry: TreeEntry, below: string): Promise<void> => {
    if (stopped()) throw new EngineError('STOPPED');
    const to = path.join(fresh, below);
    if (entry.folder) {
      if (below) fs.mkdirSync(to, { mode: onlyOwnFolder });
      for await (const piece of store.trees.pieces(entry.folder.node))
        for (const e of piece) if (e.name !== filesItem || below) await write(e, path.join(below, textOf(e.name)));
      return;
    }
    written.files++;
    if (isSame(path.join(final, below), entry)) {
      fs.linkSync(path.join(final, below), to);
      return;
    }
    const file = fs.openSync(to, 'wx', onlyOwnFile);
    try {
      for await (const part of contentOf(store, entry)) {
        fs.writeSync(file, part);
        written.bytes += part.length;
      }
      fs.futimesSync(file, secondsOf(entry), secondsOf(entry));
    } finally {
      fs.closeSync(file);
    }
  };
  try {
    await write(top, '');
    const old = `${fresh}-old`;
    if (fs.existsSync(final)) fs.renameSync(final, old);
    fs.renameSync(fresh, final);
    fs.rmSync(old, { recursive: true, force: true });
  } catch (error) {
    fs.rmSync(fresh, { recursive: true, force: true });
    throw error;
  }
  return { folder: final, ...written };
}

/** Names of objects are stored as UTF-8. */
const textOf = (byteString: string) => Buffer.from(byteString, 'latin1').toString();
const secondsOf = ({ mtimeNs }: TreeEntry) => Number(mtimeNs / 1_000_000n) / 1000;

function isSame(file: string, entry: TreeEntry): boolean {
  const there = fs.lstatSync(file, { throwIfNoEntry: false });
  return there?.isFile() === true && there.size === entry.size && Math.abs(there.mtimeMs / 1000 - secondsOf(entry)) < 0.002;
}
