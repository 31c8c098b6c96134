import { grouped } from '@lithodex/core';
import type { FetchMessageObject, ImapFlow } from 'imapflow';

/** When a message came, ms; 0 where the server does not say. */
export const timeOf = (date: Date | string | undefined): number => {
  const at = date === undefined ? 0 : new Date(date).getTime();
  return Number.isFinite(at) ? at : 0;
};

/** What stands about a message, without what only this session knows. */
export const flagsOf = (flags: Set<string> | undefined): string[] =>
  [...(flags ?? [])]
    .filter((f) => f !== '\\Recent' && f.length <= 200)
    .sort()
    .slice(0, 200);

/** The Message-ID of a message whose headers were asked for; '' for none. */
export const messageIdOf = ({ headers }: FetchMessageObject): string =>
  /^message-id:\s*(.*)$/im
    .exec((headers?.toString('utf8') ?? '').replace(/\r?\n[ \t]+/g, ' '))?.[1]
    ?.trim()
    .slice(0, 1000) ?? '';

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
  const all: MessageThere[] = [];
  if (client.mailbox && client.mailbox.exists > 0)
    for await (const m of client.fetch('1:*', { uid: true, flags: true, internalDate: true, size: true, headers: ['message-id'] }))
      all.push({ uid: m.uid, at: timeOf(m.internalDate), size: m.size ?? 0, id: messageIdOf(m), flags: flagsOf(m.flags) });
  return grouped(all, messageKey);
}
