import { countOf, formatBytes, lengthOf } from '@lithodex/core';
import type { MachineFrom } from '@lithodex/kinds';
import type { Said, SurveyContext, Surveyed } from '../connector';
import { machineSource, testInside } from './kept-clients';
import { neededRights } from './rights';

/** How a machine without a helper would come to rest. */
async function insideWords({ platform, id, inside }: MachineFrom): Promise<{ level: 'note' | 'warning'; said: Said }> {
  const disks = 'its disks would be taken as after a loss of power';
  const say = (level: 'note' | 'warning', code: string, message: string) => ({ level, said: { code, path: '', message } });
  if (!inside) return say('note', 'NOT_QUIET', `neither a helper nor an account inside: ${disks}`);
  const { ok, message } = await testInside(platform, id, inside);
  return ok ? say('note', 'INSIDE', message) : say('warning', 'NOT_QUIET', `${message} So ${disks}.`);
}

/** Looks whether a machine could be backed up: sign-in, rights, its disks. Takes no snapshot and moves nothing. */
export async function surveyMachine(ctx: SurveyContext, from: MachineFrom): Promise<Surveyed> {
  const client = machineSource(from.platform);
  const { rights } = await client.session();
  const machine = await client.machine(from.id);
  const missing = neededRights[from.platform.family].filter((n) => !rights.includes(n.right));
  for (const { name, neededFor } of missing)
    ctx.say('warning', {
      code: 'RIGHT_MISSING',
      path: '',
      message: `the account lacks a right: ${name.toLowerCase()}, needed ${neededFor}`,
    });
  let bytes = 0;
  for (const disk of machine.disks) bytes += lengthOf(await client.ranges(from.id, disk.id, {}));
  const full = machine.disks.reduce((sum, d) => sum + d.size, 0);
  ctx.say(ctx.free !== null && ctx.free < bytes ? 'warning' : 'note', {
    code: 'SIZE',
    path: '',
    message: `${countOf(machine.disks.length, 'disk')}, ${formatBytes(full)} of which ${formatBytes(bytes)} hold data; nothing was moved`,
  });
  const told = machine.running && !machine.helper ? await insideWords(from) : undefined;
  if (told) ctx.say(told.level, told.said);
  const { length } = machine.disks;
  return { items: length, files: length, bytes, warnings: missing.length, missing: 0 };
}
