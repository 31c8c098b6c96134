import { countOf, decideConflict } from '@lithodex/core';
import type { ItemOfMail } from '@lithodex/kinds';
import type { ImapFlow } from 'imapflow';
import { SourceError } from '../source-error';
import { closeMailbox, mailError, openMailbox } from './imap-account';
import { folderState, itemFacts } from './item-facts';
import { messageKey, messagesThere, type MessageThere } from './messages-there';
import type { ItemBack, Restoring } from './restoring';
import { storedBytes } from './stored-bytes';

/** Flags a server is asked to set; what only it gives is not among them. */
const settable = (flags: readonly string[]) => flags.filter((f) => f !== '\\Recent');

/** Brings messages back, folder after folder: one that is there already is not brought twice. */
export async function restoreMail(restoring: Restoring, items: readonly ItemBack[]): Promise<void> {
  const { ctx, tenant, to } = restoring;
  const client = await openMailbox(tenant, to.member);
  try {
    const byFolder = new Map<string, ItemBack[]>();
    for (const item of items) {
      const key = JSON.stringify(restoring.placeOf(item.folders));
      byFolder.set(key, [...(byFolder.get(key) ?? []), item]);
    }
    const listed = await client.list();
    const there = new Map(listed.map((f) => [f.path, f]));
    for (const [key, own] of byFolder) {
      restoring.goOn();
      const path = pathOn(client, JSON.parse(key) as string[]);
      try {
        await new FolderRestore(restoring, client, path).run(own, there.has(path));
      } catch (error) {
        const failure = mailError(error);
        if (ctx.stopped() || failure.code === 'TENANT_AWAY') throw ctx.stopped() ? error : failure;
        for (const item of own) await restoring.failed(item.path, item.entry, failure);
      }
    }
  } catch (error) {
    throw error instanceof SourceError ? error : (error as { code?: string }).code === 'STOPPED' ? error : mailError(error);
  } finally {
    await closeMailbox(client);
  }
}

/** Name of a folder on the server. Throws SourceError for one it can't have. */
export function pathOn(client: ImapFlow, parts: readonly string[]): string {
  const personal = client.namespaces?.personal;
  const own = personal ? personal[0] : undefined;
  const delimiter = own?.delimiter ?? '/';
  // what lies there is read by others: nothing is carried out that way
  const foreign = [client.namespaces?.other, client.namespaces?.shared].flatMap((n) => (Array.isArray(n) ? n : []));
  const joined = parts.join(delimiter);
  if (foreign.some(({ prefix }) => prefix !== '' && `${joined}${delimiter}`.toLowerCase().startsWith(prefix.toLowerCase())))
    throw new SourceError('TENANT_FAILED', 'folders of others and shared ones are not restored to from here');
  const odd = parts.find((part) => part.includes(delimiter));
  if (odd !== undefined) throw new SourceError('TENANT_FAILED', `the server can have no folder with ${delimiter} in its name`);
  const path = joined;
  const prefix = own?.prefix ?? '';
  return prefix && !/^INBOX$/i.test(parts[0] ?? '') && !path.startsWith(prefix) ? prefix + path : path;
}

class FolderRestore {
  constructor(
    private readonly restoring: Restoring,
    private readonly client: ImapFlow,
    private readonly path: string,
  ) {}

  async run(items: readonly ItemBack[], exists: boolean): Promise<void> {
    const { restoring, client, path } = this;
    const { trial } = restoring.ctx;
    if (!exists && !trial) {
      await client.mailboxCreate(path);
      const state = items[0] && folderState(items[0].above.at(-1) ?? { attributes: [] });
      if (state?.subscribed !== false) await client.mailboxSubscribe(path);
    }
    let there = new Map<string, MessageThere[]>();
    let before = 0;
    if (exists || !trial) {
      const lock = await client.getMailboxLock(path);
      try {
        before = client.mailbox ? client.mailbox.exists : 0;
        there = await messagesThere(client);
      } finally {
        lock.release();
      }
    }
    let [added, removed] = [0, 0];
    for (const item of items) {
      restoring.goOn();
      const facts = itemFacts(item.entry);
      if (facts?.type !== 'message') continue;
      try {
        const found = there.get(messageKey({ id: facts.id, at: facts.at, size: item.entry.size })) ?? [];
        const same = found.find((t) => t.size === item.entry.size);
        const [other] = found;
        const existing = same ?? other;
        const action = decideConflict(
          restoring.to.exists,
          { isFolder: false, mtimeNs: item.entry.mtimeNs },
          existing && { isFolder: false, mtimeNs: BigInt(existing.at) * 1_000_000n, identical: same !== undefined },
        );
        if (action === 'write' || action === 'beside' || action === 'replace') {
          if (!trial) await this.append(item, facts);
          added++;
        }
        if (action === 'replace' && existing) {
          if (!trial) await this.remove(existing.uid);
          removed++;
        }
        const flagged = action === 'same' && same && restoring.to.exists === 'replace' && !sameFlags(same.flags, facts.flags);
        if (flagged && !trial) await this.flag(same.uid, facts.flags);
        await restoring.done(item.path, item.entry, action, flagged ? 'flags as they were' : '');
      } catch (error) {
        await restoring.failed(item.path, item.entry, (error as { code?: string }).code === 'STOPPED' ? error : mailError(error));
      }
    }
    if (trial) {
      restoring.note(`${path}: ${countOf(before, 'message')} now, ${before + added - removed} after; nothing was written`);
      return;
    }
    const status = await client.status(path, { messages: true });
    const after = status ? (status.messages ?? 0) : 0;
    restoring.note(`${path}: ${before} → ${countOf(after, 'message')}, ${added} brought back${removed ? `, ${removed} replaced` : ''}`);
    // others may have received or deleted messages meanwhile: it is said, and a person looks
    if (after !== before + added - removed)
      restoring.note(`${path}: ${before + added - removed} were expected: it changed while messages were brought back`);
  }

  private async append(item: ItemBack, facts: ItemOfMail): Promise<void> {
    const { restoring, client, path } = this;
    const bytes = await storedBytes(item);
    const answer = await client.append(path, bytes, settable(facts.flags), new Date(facts.at));
    if (!answer) throw new SourceError('TENANT_FAILED', 'mail: the server took no message');
    restoring.ctx.moved(bytes.length);
  }

  private async remove(uid: number): Promise<void> {
    const lock = await this.client.getMailboxLock(this.path);
    try {
      await this.client.messageDelete(String(uid), { uid: true });
    } finally {
      lock.release();
    }
  }

  private async flag(uid: number, flags: readonly string[]): Promise<void> {
    const lock = await this.client.getMailboxLock(this.path);
    try {
      await this.client.messageFlagsSet(String(uid), settable(flags), { uid: true });
    } finally {
      lock.release();
    }
  }
}

const sameFlags = (a: readonly string[], b: readonly string[]) => JSON.stringify([...a].sort()) === JSON.stringify([...settable(b)].sort());
