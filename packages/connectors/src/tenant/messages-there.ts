import type { ImapFlow } from 'imapflow';
import { flagsOf, timeOf } from './mail-folder';

/** A message that is there now. */
export interface MessageThere {
  readonly uid: number;
  readonly at: number;
  readonly size: number;
  readonly id: string;
  readonly flags: readonly string[];
}

/** A message is the same by its Message-ID; without one by time and size. */
export const messageKey = ({ id, at, size }: { id: string; at: number; size: number }): string => (id === '' ? `${at} ${size}` : id);

/** Messages of the folder that is open, by what tells them from others. */
export async function messagesThere(client: ImapFlow): Promise<Map<string, MessageThere[]>> {
  const found = new Map<string, MessageThere[]>();
  if (!client.mailbox || client.mailbox.exists === 0) return found;
  const query = { uid: true, flags: true, internalDate: true, size: true, headers: ['message-id'] };
  for await (const m of client.fetch('1:*', query, { uid: true })) {
    const id = /^message-id:\s*(.*)$/im.exec((m.headers?.toString('utf8') ?? '').replace(/\r?\n[ \t]+/g, ' '))?.[1]?.trim() ?? '';
    const one = { uid: m.uid, at: timeOf(m.internalDate), size: m.size ?? 0, id, flags: flagsOf(m.flags) };
    const key = messageKey(one);
    found.set(key, [...(found.get(key) ?? []), one]);
  }
  return found;
}
