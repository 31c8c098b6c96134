import { countOf } from '@lithodex/core';
import type { FileServer, SystemTest } from '@lithodex/kinds';
import { LookedRights } from '../looked-rights';
import { sharesMeant } from './found-shares';
import { SmbSession } from './smb-session';

/** So many shares are tried, and so many folders of each looked into for a file. */
const [tried, lookedInto] = [5, 20];

/** Signs in and looks whether the account may do what is needed, in some of the shares. Writes nothing. */
export async function testShares(server: FileServer): Promise<SystemTest> {
  const looked = new LookedRights();
  const { look } = looked;
  let names: readonly string[] = [];
  await look('List shares', server.shares.length ? 'not needed, as they are named' : 'to find what there is, and what is new', async () => {
    names = (await sharesMeant(server)).map((s) => s.name);
    return `${countOf(names.length, 'share')}${server.shares.length ? ' named' : ''}.`;
  });
  for (const name of names.slice(0, tried)) await testOne(server, name, look);
  return looked.test(names.length, 'The server', 'share');
}

type Look = LookedRights['look'];

async function testOne(server: FileServer, name: string, look: Look): Promise<void> {
  let session: SmbSession | undefined;
  try {
    let file: string | undefined;
    await look(`List folders of ${name}`, 'to find what is there, and what changed', async () => {
      session = await SmbSession.open(server, name);
      const top = await session.list('');
      file = await firstFile(session);
      return top.length ? `It holds ${countOf(top.length, 'item')} at its top.` : 'It is empty.';
    });
    const open = session;
    if (!open || file === undefined) return;
    const path = file;
    await look(`Read files of ${name}`, 'to back them up', async () => {
      for await (const _ of open.read(path)) break;
      return 'One was opened.';
    });
    if (!server.accessLists) return;
    // reading was given up after the first piece, which ends the connection
    session = await SmbSession.open(server, name);
    const again = session;
    await look(`Read access lists of ${name}`, 'to bring back who may do what', async () => {
      const access = await again.access(path);
      return `That one has ${countOf(access?.entries.length ?? 0, 'entry', 'entries')}.`;
    });
  } finally {
    await session?.close();
  }
}

/** A file that lies near the top; undefined where none is found soon. */
async function firstFile(session: SmbSession): Promise<string | undefined> {
  const folders = [''];
  for (let n = 0; n < lookedInto && folders.length; n++) {
    const folder = folders.shift()!;
    const files = await session.list(folder).catch(() => []);
    const below = (name: string) => (folder === '' ? name : `${folder}/${name}`);
    const found = files.find((f) => !f.isFolder && f.size > 0);
    if (found) return below(found.name);
    folders.push(...files.filter((f) => f.isFolder).map((f) => below(f.name)));
  }
  return undefined;
}
