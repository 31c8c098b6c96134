import type { BackupWork, InsideAccount, MoverLine, PlatformRef } from '@lithodex/contract';
import { countOf, formatBytes, lengthOf } from '@lithodex/core';
import { neededRights } from '@lithodex/connectors';
import { insideTestOf, platformClient } from './platforms';
import { noCounts, type TaskContext, type TaskResult } from './task-context';

/** How a machine without a helper would come to rest. */
async function insideWords(
  platform: PlatformRef,
  id: string,
  inside: InsideAccount | null,
): Promise<Pick<MoverLine, 'level' | 'code' | 'message'>> {
  const disks = 'its disks would be taken as after a loss of power';
  if (!inside) return { level: 'note', code: 'NOT_QUIET', message: `neither a helper nor an account inside: ${disks}` };
  const { ok, message } = await insideTestOf(platform, id, inside);
  return ok ? { level: 'note', code: 'INSIDE', message } : { level: 'warning', code: 'NOT_QUIET', message: `${message} So ${disks}.` };
}

/** Looks whether a machine could be backed up: sign-in, rights, its disks. Takes no snapshot and moves nothing. `free`: bytes on the target, null where nobody can tell. */
export async function trialOfMachine(
  ctx: TaskContext,
  work: BackupWork,
  { platform, id, inside }: NonNullable<BackupWork['machine']>,
  free: number | null,
): Promise<TaskResult> {
  const client = platformClient(platform);
  const { rights } = await client.session();
  const machine = await client.machine(id);
  const missing = neededRights.filter((n) => !rights.includes(n.right));
  for (const { name, neededFor } of missing)
    ctx.log({
      level: 'warning',
      code: 'RIGHT_MISSING',
      path: '',
      message: `the account lacks a right: ${name.toLowerCase()}, needed ${neededFor}`,
    });
  let bytes = 0;
  for (const disk of machine.disks) bytes += lengthOf(await client.ranges(id, disk.id, {}));
  const full = machine.disks.reduce((sum, d) => sum + d.size, 0);
  ctx.log({
    level: free !== null && free < bytes ? 'warning' : 'note',
    code: 'SIZE',
    path: '',
    message: `${countOf(machine.disks.length, 'disk')}, ${formatBytes(full)} of which ${formatBytes(bytes)} hold data; nothing was moved`,
  });
  const told = machine.running && !machine.helper ? await insideWords(platform, id, inside) : undefined;
  if (told) ctx.log({ path: '', ...told });
  const { length } = machine.disks;
  return { counts: { ...noCounts, items: length, files: length, bytes, warnings: missing.length }, bytes: 0 };
}
