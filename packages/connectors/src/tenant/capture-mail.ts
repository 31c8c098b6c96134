import { joinPath } from '@lithodex/core';
import { EngineError, type TreeEntry } from '@lithodex/engine';
import { tenantTops, type Tenant, type TenantMember } from '@lithodex/kinds';
import type { ImapFlow, ListResponse } from 'imapflow';
import { setTimeout as pause } from 'node:timers/promises';
import { closeMailbox, isAway, mailError, openMailbox } from './imap-account';
import { folderState, type FolderState } from './item-facts';
import { folderName } from './item-words';
import { MailFolder } from './mail-folder';
import type { MemberWriting } from './member-writing';

const attempts = 4;
const pauseMs = 1500;

/** A folder of a mailbox as the server lists it. */
export interface MailboxFolder {
  /** As the server names it, decoded. */
  readonly path: string;
  readonly parts: readonly string[];
  readonly opens: boolean;
  readonly state: FolderState;
  readonly modseq: string | undefined;
}

/** Folders of a mailbox that belong to others, as they begin. */
export const foreignPrefixes = (client: ImapFlow): string[] =>
  [client.namespaces?.other, client.namespaces?.shared]
    .flatMap((n) => (Array.isArray(n) ? n : []))
    .map((n) => n.prefix)
    .filter(Boolean);

/** The folders of a person's own mailbox: those of others that can be seen there as well are protected with these. */
export async function foldersOf(client: ImapFlow): Promise<MailboxFolder[]> {
  const listed = await client.list({ statusQuery: { messages: true, uidNext: true, uidValidity: true, highestModseq: true } });
  const foreign = foreignPrefixes(client);
  return listed.filter((f) => !foreign.some((prefix) => f.path.startsWith(prefix) || `${f.path}${f.delimiter}` === prefix)).map(toFolder);
}

function toFolder(f: ListResponse): MailboxFolder {
  const opens = !f.flags.has('\\Noselect') && !f.flags.has('\\NonExistent');
  const { status } = f;
  return {
    path: f.path,
    parts: f.delimiter ? f.path.split(f.delimiter) : [f.path],
    opens,
    modseq: status?.highestModseq === undefined ? undefined : String(status.highestModseq),
    state: {
      path: f.path,
      subscribed: f.subscribed,
      ...(f.specialUse && { use: f.specialUse }),
      ...(opens &&
        status?.uidValidity !== undefined && {
          uidValidity: String(status.uidValidity),
          messages: status.messages ?? 0,
          ...(status.uidNext !== undefined && { uidNext: status.uidNext }),
        }),
    },
  };
}

/** A folder of the point before, by the name the server gave it. Its messages are read when they are needed. */
interface Earlier {
  readonly state: FolderState;
  readonly entry: TreeEntry;
  /** Entries of the folders in it. */
  readonly folders: readonly TreeEntry[];
}

async function earlierFolders(
  out: MemberWriting,
  entry: TreeEntry | undefined,
  into = new Map<string, Earlier>(),
): Promise<Map<string, Earlier>> {
  if (!entry) return into;
  const folders = await out.foldersBefore(entry);
  const state = folderState(entry);
  if (state && state.path !== '') into.set(state.path, { state, entry, folders });
  for (const folder of folders) await earlierFolders(out, folder, into);
  return into;
}

const messagesOf = async (out: MemberWriting, before: Earlier | undefined): Promise<TreeEntry[]> =>
  (await out.before(before?.entry)).filter((e) => e.kind === 'file');

/** Messages of a folder and the folders in it, until all are known. */
interface Growing {
  entries: TreeEntry[];
  state: FolderState;
  /** Its messages are as they were. */
  kept: Earlier | undefined;
  /** The server lists it and does not open it. */
  unread: boolean;
  readonly below: Map<string, Growing>;
}

const growing = (): Growing => ({ entries: [], state: { path: '' }, kept: undefined, unread: false, below: new Map() });

/** A server that is being started again is asked again. Throws SourceError. */
async function openPatiently(out: MemberWriting, tenant: Tenant, member: TenantMember): Promise<ImapFlow> {
  for (let attempt = 1; ; attempt++)
    try {
      out.goOn();
      return await openMailbox(tenant, member);
    } catch (error) {
      if (!isAway(error) || attempt >= attempts) throw error;
      await pause(pauseMs * attempt);
    }
}

/** Takes a mailbox: what the server says has not changed is not asked for. Throws SourceError. */
export async function captureMail(
  out: MemberWriting,
  tenant: Tenant,
  member: TenantMember,
  base: TreeEntry | undefined,
): Promise<TreeEntry> {
  const earlier = await earlierFolders(out, base);
  let client = await openPatiently(out, tenant, member);
  try {
    const folders = await foldersOf(client).catch((error: unknown) => {
      throw mailError(error);
    });
    const there = new Set(folders.map((f) => f.path));
    const top = growing();
    for (const folder of folders) {
      out.goOn();
      const at = folder.parts.reduce<string>((path, part) => joinPath(path, folderName(part)), tenantTops.mail);
      if (out.leftOut(at, true)) continue;
      const place = placeOf(top, folder.parts);
      place.state = folder.state;
      if (!folder.opens) continue;
      const before = earlier.get(folder.path) ?? renamed(out, folder, earlier, there);
      if (before && isAsBefore(folder, before)) {
        place.kept = before;
        place.state = { ...before.state, ...folder.state };
        continue;
      }
      const messages = await messagesOf(out, before);
      const reading = new MailFolder(out, at, messages, before?.state);
      const read = async () => {
        const lock = await client.getMailboxLock(folder.path, { readOnly: true });
        try {
          return await reading.read(client);
        } finally {
          lock.release();
        }
      };
      for (let attempt = 1; ; attempt++)
        try {
          const { entries, state } = await read();
          place.entries = entries;
          place.state = { ...folder.state, ...state };
          break;
        } catch (error) {
          const failure = mailError(error);
          if (failure instanceof EngineError || (isAway(failure) && attempt >= attempts)) throw failure;
          if (isAway(failure)) {
            out.note('CONNECTION_LOST', at, `the mail server went away and is asked again: ${failure.message}`);
            await closeMailbox(client);
            client = await openPatiently(out, tenant, member);
          } else if (attempt > 1) {
            // what it held is kept, and said not to have been looked at
            place.entries = messages.map((m) => ({ ...m, unread: true }));
            // without its number of changes, so that the next point looks at all of it
            if (before) place.state = { ...before.state, modseq: undefined };
            place.unread = before === undefined;
            out.warn('FOLDER_UNREAD', at, failure.message, true);
            break;
          }
        }
    }
    return await write(out, tenantTops.mail, tenantTops.mail, top);
  } finally {
    await closeMailbox(client);
  }
}

const isAsBefore = ({ state, modseq }: MailboxFolder, { state: before }: Earlier): boolean =>
  modseq !== undefined &&
  modseq === before.modseq &&
  state.uidValidity === before.uidValidity &&
  state.uidNext === before.uidNext &&
  state.messages === before.messages;

/** A folder of before that has another name now. */
function renamed(
  out: MemberWriting,
  { path, state }: MailboxFolder,
  earlier: ReadonlyMap<string, Earlier>,
  there: ReadonlySet<string>,
): Earlier | undefined {
  if (state.uidValidity === undefined) return undefined;
  const found = [...earlier].filter(([old, e]) => !there.has(old) && e.state.uidValidity === state.uidValidity && e.state.messages !== 0);
  const [only] = found;
  if (found.length !== 1 || !only) return undefined;
  out.note('FOLDER_RENAMED', joinPath(tenantTops.mail, folderName(path)), `it was ${only[0]}`);
  // numbers may be those of another folder all the same: its messages are matched one by one
  return { ...only[1], state: { ...only[1].state, uidValidity: '' } };
}

function placeOf(top: Growing, parts: readonly string[]): Growing {
  let at = top;
  for (const part of parts) {
    const name = folderName(part);
    let next = at.below.get(name);
    if (!next) at.below.set(name, (next = growing()));
    at = next;
  }
  return at;
}

async function write(out: MemberWriting, name: string, path: string, { entries, below, kept, state, unread }: Growing): Promise<TreeEntry> {
  if (unread && below.size === 0) return out.unread(name);
  const folders: TreeEntry[] = [];
  for (const [own, folder] of below) folders.push(await write(out, own, joinPath(path, own), folder));
  const own = state.path === '' ? undefined : state;
  if (!kept) return out.folder(name, [...entries, ...folders], own);
  const same = out.keptFolder({ entry: kept.entry, folders: kept.folders, written: folders, messages: state.messages ?? 0 }, own);
  return same ?? out.folder(name, [...out.reusedMessages(await messagesOf(out, kept), path), ...folders], own);
}
