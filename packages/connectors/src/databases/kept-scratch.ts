import { existsSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import path from 'node:path';
import { DatabaseServer } from '@lithodex/kinds';
import { z } from 'zod';
import { SourceError } from '../source-error';
import { whenEnding } from '../ending';
import type { Scratch } from './family';
import { ownFolder, ownFoldersOf } from '../own-folder';

/** What is known of a scratch server that stays up: every thread of the mover may look into it, while one keeps it. */
const Kept = z.object({
  taskId: z.string(),
  /** Which listens at a folder of its own, or on loopback. */
  server: DatabaseServer.extend({ host: z.string() }),
  process: z.int().positive(),
  until: z.number(),
});
export type KeptScratch = z.infer<typeof Kept>;

const fileName = 'kept.json';
const minuteMs = 60_000;

/** Keeps a scratch server up for some minutes, as the one that a task made; gives until when, in ms. It ends with the mover at the latest. */
export function keepScratch(taskId: string, scratch: Scratch, minutes: number): number {
  const folder = ownFolder('kept');
  const until = Date.now() + minutes * minuteMs;
  const end = async (): Promise<void> => {
    clearTimeout(timer);
    forget();
    rmSync(folder, { recursive: true, force: true });
    await scratch.stop();
  };
  const timer = setTimeout(() => void end(), minutes * minuteMs);
  scratch.process.once('exit', () => void end());
  const forget = whenEnding(end);
  const kept: KeptScratch = { taskId, server: scratch.server, process: scratch.process.pid!, until };
  writeFileSync(path.join(folder, fileName), JSON.stringify(kept), { mode: 0o600 });
  return until;
}

/** The scratch server that a task made. Throws SCRATCH_GONE. */
export function keptScratch(taskId: string): KeptScratch {
  for (const folder of ownFoldersOf('kept')) {
    const file = path.join(folder, fileName);
    if (!existsSync(file)) continue;
    const kept = Kept.parse(JSON.parse(readFileSync(file, 'utf8')));
    if (kept.taskId === taskId && kept.until > Date.now()) return kept;
  }
  throw new SourceError('SCRATCH_GONE');
}

/** Ends the scratch server that a task made. Throws SCRATCH_GONE. */
export function endScratch(taskId: string): void {
  // the thread that keeps it hears of its end, and removes what is left
  process.kill(keptScratch(taskId).process, 'SIGKILL');
}
