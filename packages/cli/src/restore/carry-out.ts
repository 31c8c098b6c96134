import fs from 'node:fs';
import path from 'node:path';
import { pipeline } from 'node:stream/promises';
import type { BodyInput, RestorePlan, RunDetail } from '@lithodex/contract';
import { CliError } from '../errors';
import { tell, type Io } from '../io';
import { endStatus, endWords, followRun, isOver } from '../run-end';
import { harmless } from '../table';
import { conflictWords, destinationWords, nameOf, type Conflict, type Destination, type Picked } from './picked';

/** A restore as it was put together. */
export interface Wanted {
  readonly picks: readonly Picked[];
  readonly destination: Destination;
  readonly conflict: Conflict;
  readonly name?: string;
  readonly start?: boolean;
  /** Where a download goes; a folder or a file that is not there. */
  readonly out?: string;
}

export function bodyOf({ picks, destination, conflict, name, start }: Wanted): BodyInput<'planRestore'> {
  return {
    name: name ?? nameOf(picks),
    picks: picks.map(({ pointId, path: p }) => ({ pointId, path: p })),
    destination,
    rule: conflict,
    start: start ?? false,
  };
}

export const plan = (io: Io, wanted: Wanted): Promise<RestorePlan> => io.server.call('planRestore', { body: bodyOf(wanted) });

/** Starts a restore, waits, and says how it ended and where everything is. Gives the exit status. */
export async function carryOut(io: Io, wanted: Wanted, reason: string, planned: RestorePlan, wait: boolean): Promise<number> {
  const { destination } = wanted;
  const file = destination.to === 'download' ? fileFor(wanted, planned) : undefined;
  const { runId } = await io.server.call('startRestore', { body: { ...bodyOf(wanted), reason } });
  if (!wait && !file) {
    tell(io, { runId }, () => `Run ${runId} is started.`);
    return 0;
  }
  if (file) await fetchDownload(io, runId, file);
  const run = await followRun(io, runId);
  const places = file ? [file] : [...new Set(planned.items.map((i) => i.goesTo))];
  tell(io, { run, places }, () => [endWords(run), ...whereWords(run, places, wanted)].join('\n'));
  return endStatus[run.state];
}

function whereWords(run: RunDetail, places: readonly string[], { destination, conflict }: Wanted): string[] {
  if (endStatus[run.state] >= 4) return [`It was to go to ${destinationWords(destination)}.`];
  const shown = places.slice(0, 20).map((p) => `  ${harmless(p)}`);
  const more = places.length > 20 ? [`  and ${places.length - 20} more`] : [];
  return [`It is at${destination.to === 'download' ? '' : ` (${conflictWords[conflict]})`}:`, ...shown, ...more];
}

/** The file a download goes to. Throws USAGE where one is there. */
function fileFor({ out, destination }: Wanted, planned: RestorePlan): string {
  const format = destination.to === 'download' ? destination.format : '';
  const [first] = planned.items;
  const own = format === 'file' && first ? path.basename(first.pick.path) : `restore.${format}`;
  const wanted = path.resolve(out ?? '.');
  const file =
    fs.existsSync(wanted) && fs.statSync(wanted).isDirectory() ? path.join(wanted, own.replaceAll(/[^\p{L}\p{N}._ -]/gu, '_')) : wanted;
  if (fs.existsSync(file)) throw new CliError('USAGE', `${file} is there already. Name another with --out.`);
  return file;
}

async function fetchDownload(io: Io, runId: number, file: string): Promise<void> {
  for (;;) {
    const run = await io.server.call('getRun', { id: runId });
    if (isOver(run.state)) return;
    if (run.downloadReady) break;
    await new Promise((resume) => setTimeout(resume, 300));
  }
  const { body } = await io.server.stream('download', { id: runId });
  await pipeline(body, fs.createWriteStream(`${file}.part`, { flags: 'w', mode: 0o600 }));
  fs.renameSync(`${file}.part`, file);
}
