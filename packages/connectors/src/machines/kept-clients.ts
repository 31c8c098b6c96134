import { createHash } from 'node:crypto';
import type { InsideAccount, PlatformRef } from '@lithodex/kinds';
import { PlatformClient } from './platform-client';
import { SourceError } from '../source-error';

/** So many sessions are kept; which was used longest ago is closed when one more comes. */
const mostKept = 8;
const clients = new Map<string, PlatformClient>();

/** A session at a platform, kept from task to task in this thread. What opens it is not kept for longer than that. */
export function platformClient(ref: PlatformRef): PlatformClient {
  const key = createHash('sha256').update(JSON.stringify(ref)).digest('hex');
  const client = clients.get(key) ?? new PlatformClient(ref);
  clients.delete(key);
  clients.set(key, client);
  for (const [oldest, known] of clients) {
    if (clients.size <= mostKept) break;
    clients.delete(oldest);
    known.close();
  }
  return client;
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
