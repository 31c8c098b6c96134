import { createHash } from 'node:crypto';
import type { InsideAccount, PlatformRef } from '@lithodex/kinds';
import type { CloudClient } from './cloud/cloud-client';
import { CloudMachines } from './cloud/cloud-machines';
import type { MachineSource } from './machine-source';
import { PlatformClient } from './platform-client';
import { SourceError } from '../source-error';

/** So many sessions are kept; which was used longest ago is closed when one more comes. */
const mostKept = 8;
const clients = new Map<string, PlatformClient | CloudMachines>();

/** A session at a platform, kept from task to task in this thread. What opens it is not kept for longer than that. */
function sessionAt(ref: PlatformRef): PlatformClient | CloudMachines {
  const key = createHash('sha256').update(JSON.stringify(ref)).digest('hex');
  const client = clients.get(key) ?? (ref.family === 'cloud' ? new CloudMachines(ref) : new PlatformClient(ref));
  clients.delete(key);
  clients.set(key, client);
  for (const [oldest, known] of clients) {
    if (clients.size <= mostKept) break;
    clients.delete(oldest);
    known.close();
  }
  return client;
}

/** What keeps machines, whether that is hosts of one's own or a cloud. */
export function machineSource(ref: PlatformRef): MachineSource {
  return sessionAt(ref);
}

/** A platform of hosts. Throws NOT_IN_A_CLOUD for a cloud. */
export function platformClient(ref: PlatformRef): PlatformClient {
  const session = sessionAt(ref);
  if (session instanceof PlatformClient) return session;
  throw new SourceError('NOT_IN_A_CLOUD');
}

/** A cloud. Throws NOT_IN_A_CLOUD for what is none. */
export function cloudClient(ref: PlatformRef): CloudClient {
  const session = sessionAt(ref);
  if (session instanceof CloudMachines) return session.client;
  throw new SourceError('NOT_IN_A_CLOUD', 'it is no cloud');
}

/** Whether an account is let in inside a machine; a refusal is an answer too. */
export async function testInside(ref: PlatformRef, machine: string, account: InsideAccount): Promise<{ ok: boolean; message: string }> {
  try {
    const { system } = await platformClient(ref).signInInside(machine, account);
    return { ok: true, message: `${account.name} is let in to ${system || 'the system'} inside.` };
  } catch (error) {
    if (!(error instanceof SourceError)) throw error;
    return { ok: false, message: error.message };
  }
}
