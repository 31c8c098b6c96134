import { countOf, grouped, joinPath } from '@lithodex/core';
import { keyedHash, type TreeEntry } from '@lithodex/engine';
import type { ItemOfMail } from '@lithodex/kinds';
import type { ImapFlow, SearchObject } from 'imapflow';
import { SourceError } from '../source-error';
import { itemFacts, type FolderState } from './item-facts';
import { messageStem } from './item-words';
import { FreeNames, type MemberWriting } from './member-writing';
import { flagsOf, messageIdOf, timeOf } from './messages-there';
import { readMessage } from './mime-parts';

/** What tells messages from others is no secret. */
const noKey = Buffer.alloc(32);
/** Messages that are asked for at once. */
const atOnce = 400;
/** Bytes of a message that are taken at once; longer ones come piece by piece. */
const bytesAtOnce = 8 << 20;
/** Messages that are being stored at once. */
const storing = 48;
/** Of a long message so much is looked at for what it says of itself. */
const frontBytes = 1 << 20;

/** What stands about a message beside it. */
interface Envelope {
  readonly uid: number;
  readonly at: number;
  readonly flags: string[];
}
interface Meta extends Envelope {
  readonly size: number;
  /** Its Message-ID; '' for none. */
  readonly id: string;
}

/** UIDs as a set of IMAP. */
export function uidSet(uids: readonly number[]): string {
  const parts: string[] = [];
  for (let i = 0; i < uids.length;) {
    let j = i;
    while (j + 1 < uids.length && uids[j + 1] === uids[j]! + 1) j++;
    parts.push(i === j ? String(uids[i]) : `${uids[i]}:${uids[j]}`);
    i = j + 1;
  }
  return parts.join(',');
}

/** Numbers of messages, ascending. A server that refuses to tell is not taken for one that has none. Throws SourceError. */
async function uidsOf(client: ImapFlow, query: SearchObject): Promise<number[]> {
  const found = await client.search(query, { uid: true });
  if (!Array.isArray(found)) throw new SourceError('TENANT_FAILED', 'mail: the server does not list its messages');
  return found.sort((a, b) => a - b);
}

/** What can be told of messages without reading them. */
async function metaOf(client: ImapFlow, uids: readonly number[]): Promise<Meta[]> {
  const found: Meta[] = [];
  for (let at = 0; at < uids.length; at += 2000) {
    const query = { uid: true, flags: true, internalDate: true, size: true, headers: ['message-id'] };
    for await (const m of client.fetch(uidSet(uids.slice(at, at + 2000)), query, { uid: true }))
      found.push({ uid: m.uid, size: m.size ?? 0, at: timeOf(m.internalDate), flags: flagsOf(m.flags), id: messageIdOf(m) });
  }
  return found;
}

/** The messages of one folder of a mailbox that is open, as entries: what the point before has is not read again. */
export class MailFolder {
  private readonly names = new FreeNames();
  private readonly entries: TreeEntry[] = [];
  /** What was read on a connection that broke is not read again. */
  private readonly stored = new Map<number, TreeEntry>();
  /** Messages that the server gave. */
  private readonly met = new Set<number>();

  constructor(
    private readonly out: MemberWriting,
    private readonly path: string,
    private readonly earlier: readonly TreeEntry[],
    private readonly state: FolderState | undefined,
  ) {}

  /** Reads the folder that is selected. Gives its entries, and what the next point has to know. */
  async read(client: ImapFlow): Promise<{ readonly entries: TreeEntry[]; readonly state: Partial<FolderState> }> {
    const box = client.mailbox;
    if (!box) throw new Error('no mailbox is open');
    this.entries.length = 0;
    // noted before anything is asked: what changes meanwhile is seen by the next point
    const state = {
      uidValidity: String(box.uidValidity),
      uidNext: box.uidNext,
      ...(box.highestModseq !== undefined && { modseq: String(box.highestModseq) }),
    };
    const uids = box.exists ? await uidsOf(client, { all: true }) : [];
    const known = this.knownByUid();
    // numbers that go back belong to a mailbox that was itself brought back: its messages are matched one by one
    const same = this.state?.uidValidity === state.uidValidity && state.uidNext >= (this.state.uidNext ?? 0);
    if (same) await this.takeOver(client, uids, known);
    const fresh = same ? uids.filter((uid) => !known.has(uid)) : uids;
    // without points of before nothing has to be matched
    const left = same || known.size === 0 ? fresh : this.matched(await metaOf(client, fresh));
    await this.readAll(client, left);
    return { entries: this.entries, state: { ...state, messages: this.entries.length } };
  }

  private knownByUid(): Map<number, { entry: TreeEntry; facts: ItemOfMail }> {
    const known = new Map<number, { entry: TreeEntry; facts: ItemOfMail }>();
    for (const entry of this.earlier) {
      const facts = itemFacts(entry);
      if (facts?.type === 'message') known.set(facts.uid, { entry, facts });
    }
    return known;
  }

  private leftOut(name: string): boolean {
    return this.out.leftOut(joinPath(this.path, name), false);
  }

  private keep(entry: TreeEntry, facts: ItemOfMail): void {
    if (this.leftOut(entry.name)) return;
    this.names.take(entry.name);
    // on another connection it was kept before, and is counted once
    const kept = this.stored.get(facts.uid) ?? this.out.reused(entry, facts);
    this.stored.set(facts.uid, kept);
    this.entries.push(kept);
  }

  /** Messages that are still there, with the flags of now. */
  private async takeOver(
    client: ImapFlow,
    uids: readonly number[],
    known: ReadonlyMap<number, { entry: TreeEntry; facts: ItemOfMail }>,
  ): Promise<void> {
    const flags = new Map<number, string[]>();
    const since = this.state?.modseq;
    const now = client.mailbox ? client.mailbox.highestModseq : undefined;
    const limited = now !== undefined && since !== undefined && now >= BigInt(since) && { changedSince: BigInt(since) };
    if (uids.length && known.size)
      for await (const m of client.fetch('1:*', { uid: true, flags: true }, { uid: true, ...limited })) flags.set(m.uid, flagsOf(m.flags));
    for (const uid of uids) {
      const before = known.get(uid);
      if (before) this.keep(before.entry, { ...before.facts, flags: flags.get(uid) ?? before.facts.flags });
    }
  }

  /** The server gave all messages other numbers: those it has under the same id, time and size are the ones of before. Gives the others. */
  private matched(metas: readonly Meta[]): number[] {
    const key = (m: { id: string; at: number; size: number }) => `${m.id}\n${m.at}\n${m.size}`;
    const earlier = grouped(this.knownByUid().values(), ({ entry, facts }) => key({ id: facts.id, at: facts.at, size: entry.size }));
    const others: number[] = [];
    for (const meta of metas) {
      // without an id two messages of one minute could be taken for each other
      const before = meta.id === '' ? undefined : earlier.get(key(meta))?.shift();
      if (before) {
        this.keep(before.entry, { ...before.facts, uid: meta.uid, flags: meta.flags });
      } else others.push(meta.uid);
    }
    return others;
  }

  private async readAll(client: ImapFlow, uids: readonly number[]): Promise<void> {
    const { stored } = this;
    const wanted = new Set(uids);
    for (const [uid, entry] of stored) {
      if (!wanted.has(uid)) continue;
      this.names.take(entry.name);
      this.entries.push(entry);
    }
    const left = uids.filter((uid) => !stored.has(uid));
    for (let at = 0; at < left.length; at += atOnce) {
      const part = left.slice(at, at + atOnce);
      const long = await this.readGroup(client, part);
      for (const meta of long) await this.readLong(client, meta);
      await this.lookForLost(client, part);
    }
  }

  /** What the server did not give though it has it is said; what was removed meanwhile is not missing. */
  private async lookForLost(client: ImapFlow, uids: readonly number[]): Promise<void> {
    const lost = uids.filter((uid) => !this.met.has(uid));
    if (!lost.length) return;
    const still = await uidsOf(client, { uid: uidSet(lost) });
    if (still.length)
      this.out.warn('MESSAGE_UNREAD', this.path, `the server does not give ${countOf(still.length, 'message')} that it lists`, true);
  }

  /** Reads and stores messages; gives those that are too long to be taken at once. */
  private async readGroup(client: ImapFlow, uids: readonly number[]): Promise<Envelope[]> {
    const { out } = this;
    const long: Envelope[] = [];
    const pending: Promise<void>[] = [];
    const query = { uid: true, flags: true, internalDate: true, source: { start: 0, maxLength: bytesAtOnce } };
    for await (const m of client.fetch(uidSet(uids), query, { uid: true })) {
      out.goOn();
      const meta = { uid: m.uid, at: timeOf(m.internalDate), flags: flagsOf(m.flags) };
      if (!m.source) continue;
      this.met.add(m.uid);
      if (m.source.length >= bytesAtOnce) {
        long.push(meta);
        continue;
      }
      const done = this.storeMessage(meta, m.source);
      // told where it is waited for
      done.catch(() => undefined);
      pending.push(done);
      if (pending.length < storing) continue;
      // half of what is under way is waited for at once: each wait takes its time
      await Promise.all(pending.splice(0, storing / 2));
      await out.passed();
    }
    await Promise.all(pending);
    await out.passed();
    return long;
  }

  private async storeMessage(meta: Envelope, source: Buffer): Promise<void> {
    const { facts, cuts } = readMessage(source);
    const sum = keyedHash(noKey, source).toString('hex');
    const own: ItemOfMail = { ...facts, sum, uid: meta.uid, at: meta.at, flags: meta.flags };
    const name = this.names.free(messageStem(own), '.eml');
    if (this.leftOut(name)) return;
    this.add(meta.uid, this.out.item(name, await this.out.content(source, cuts), meta.at, own));
  }

  private async readLong(client: ImapFlow, meta: Envelope): Promise<void> {
    const front: Buffer[] = [];
    let length = 0;
    const answer = await client.download(String(meta.uid), undefined, { uid: true });
    if (!('content' in answer) || !answer.content) {
      this.met.delete(meta.uid);
      return;
    }
    const { content } = answer;
    const pieces = async function* () {
      for await (const piece of content as AsyncIterable<Buffer>) {
        if (length < frontBytes) front.push(piece);
        length += piece.length;
        yield piece;
      }
    };
    const { sum, ...stored } = await this.out.streamed(pieces());
    const { facts } = readMessage(Buffer.concat(front).subarray(0, frontBytes));
    const own: ItemOfMail = { ...facts, sum, uid: meta.uid, at: meta.at, flags: meta.flags };
    const name = this.names.free(messageStem(own), '.eml');
    if (!this.leftOut(name)) this.add(meta.uid, this.out.item(name, stored, meta.at, own));
  }

  private add(uid: number, entry: TreeEntry): void {
    this.stored.set(uid, entry);
    this.entries.push(entry);
  }
}
