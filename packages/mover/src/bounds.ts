import { existsSync, readFileSync, realpathSync } from 'node:fs';
import path from 'node:path';
import { z } from 'zod';
import { usualBackOnly, type HostBounds } from '@lithodex/connectors';
import { bytesOfText } from '@lithodex/core';
import { threadFile } from '@lithodex/engine';
import { ScannerCommand } from './scan/command-scanner';

const Roots = z.array(z.string().regex(/^\//, 'start with /').max(4000)).max(1000);

/** What whoever runs the host allows a mover, as it stands in `mover.json`. The server neither knows nor changes it. */
const MoverFile = z.strictObject({
  /** Where sources may be, and what may be looked at. */
  read: Roots.default(['/']),
  /** Where something may be restored to. */
  write: Roots.default(['/']),
  /** Of that, what gets back only what was taken there. */
  backOnly: Roots.default(usualBackOnly),
  /** Never read and never written to, besides what the mover keeps for itself. */
  never: Roots.default([]),
  /** Folders that are the root of another machine, each with the file in which its hardware says what it is. */
  hardware: z.record(z.string().regex(/^\//, 'start with /').max(4000), z.string().max(4000)).default({}),
  /** Programs that scan files, by the name that the server knows them by. */
  scanners: z.record(z.string().min(1).max(60), ScannerCommand).default({}),
  /** Whether buckets, libraries and platforms may be at addresses inside a house. */
  privateAddresses: z.boolean().default(true),
});

export interface MoverPlaces {
  /** File of bounds; undefined for `mover.json` beside the token, where there is one. */
  readonly file: string | undefined;
  readonly tokenFile: string;
  readonly keysFolder: string;
  readonly scripts: string | undefined;
  /** Folder for what machines write that run from the store. */
  readonly overlays: string;
}

/** The path without links, as far as it is there. */
function real(file: string): string {
  const absolute = path.resolve(file);
  let there = absolute;
  while (!existsSync(there)) there = path.dirname(there);
  return path.join(realpathSync(there), path.relative(there, absolute));
}

/** What a mover may do on its host, and whether it may reach private addresses: what its file says, and never with its own keys, token, scripts, settings and program. Throws on a file that is not valid. */
export function boundsOf({ file, tokenFile, keysFolder, scripts, overlays }: MoverPlaces): {
  readonly bounds: HostBounds;
  readonly privateAddresses: boolean;
  readonly scanners: Readonly<Record<string, ScannerCommand>>;
} {
  const settings = file ?? path.join(path.dirname(tokenFile), 'mover.json');
  const written: unknown = file !== undefined || existsSync(settings) ? JSON.parse(readFileSync(settings, 'utf8')) : {};
  const said = MoverFile.safeParse(written);
  if (!said.success) throw new Error(`${settings} is not valid: ${z.prettifyError(said.error)}`);
  const program = path.dirname(threadFile('task-thread'));
  const own = [tokenFile, keysFolder, overlays, settings, program, path.resolve(program, '../../node_modules')];
  const bytes = (paths: readonly string[]) => [...new Set(paths.map((p) => bytesOfText(real(p))))];
  const { read, write, backOnly, never, privateAddresses, scanners } = said.data;
  const hardware = Object.fromEntries(
    Object.entries(said.data.hardware).map(([root, file]) => [bytesOfText(real(root)), readFileSync(file, 'utf8')]),
  );
  const kept = [...own, ...(scripts === undefined ? [] : [scripts]), ...never];
  return {
    bounds: { read: bytes(read), write: bytes(write), backOnly: bytes(backOnly), kept: bytes(kept), hardware },
    privateAddresses,
    scanners,
  };
}
