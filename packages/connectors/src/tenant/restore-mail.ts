import { countOf, decideConflict } from '@lithodex/core';
import type { ItemOfMail } from '@lithodex/kinds';
import type { ImapFlow } from 'imapflow';
import { SourceError } from '../source-error';
import { foreignPrefixes } from './capture-mail';
import { closeMailbox, mailError, openMailbox } from './imap-account';
import { folderState, itemFacts } from './item-facts';
import { messageKey, messagesThere, type MessageThere } from './messages-there';
import type { ItemBack, Restoring } from './restoring';
import { storedBytes } from './stored-bytes';

/** Brings messages back, folder after folder: one that is there already is not brought twice. */
export async function restoreMail(restoring: Restoring, items: readonly ItemBack[]): Promise<void> {
  const { tenant, to } = restoring;
  const client = await openMailbox(tenant, to.member);
  try {
    const there = new Set((await client.list()).map((f) => f.path));
    for (const own of restoring.byFolder(items)) {
      restoring.goOn();
      try {
        const path = pathOn(client, restoring.placeOf(own[0]!.folders));
        await new FolderRestore(restoring, client, path).run(own, there.has(path));
      } catch (error) {
        const failure = mailError(error);
        for (const item of own) await restoring.failed(item.path, item.entry, failure);
      }
    }
  } catch (error) {
    throw mailError(error);
  } finally {
    await closeMailbox(client);
  }
}

/** Name of a folder on the server. Throws SourceError for one it can't have. */
export function pathOn(client: ImapFlow, parts: readonly string[]): string {
  const personal = client.namespaces?.personal;
  const own = personal ? personal[0] : undefined;
  const delimiter = own?.delimiter ?? '/';
  const joined = parts.join(delimiter);
  // what lies there is read by others: nothing is carried out that way
  if (foreignPrefixes(client).some((prefix) => `${joined}${delimiter}`.toLowerCase().startsWith(prefix.toLowerCase())))
    throw new SourceError('TENANT_FAILED', 'folders of others and shared ones are not restored to from here');
  const odd = parts.find((part) => part.includes(delimiter));
  if (odd !== undefined) throw new SourceError('TENANT_FAILED', `the server can have no folder with ${delimiter} in its name`);
  const prefix = own?.prefix ?? '';
  return prefix && !/^INBOX$/i.test(parts[0] ?? '') && !joined.startsWith(prefix) ? prefix + joined : joined;
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
      try {
        if (facts?.type !== 'message') throw new SourceError('TENANT_FAILED', 'it is no message that is known');
        const key = messageKey({ id: facts.id, at: facts.at, size: item.entry.size });
        const found = there.get(key) ?? [];
        // each that is there stands for one: of twins, as many come back as are missing
        const at = found.findIndex((t) => t.size === item.entry.size);
        const [same] = at < 0 ? [] : found.splice(at, 1);
        const existing = same ?? found[0];
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
        await restoring.failed(item.path, item.entry, mailError(error));
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
    const answer = await client.append(path, bytes, [...facts.flags], new Date(facts.at));
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
      await this.client.messageFlagsSet(String(uid), [...flags], { uid: true });
    } finally {
      lock.release();
    }
  }
}

const sameFlags = (a: readonly string[], b: readonly string[]) => JSON.stringify([...a].sort()) === JSON.stringify([...b].sort());
