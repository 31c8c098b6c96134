import { randomBytes } from 'node:crypto';
import fs from 'node:fs';
import path from 'node:path';
import { median } from '@lithodex/core';
import { closePools } from '@lithodex/connectors';
import { DiskFolder, Store } from '@lithodex/engine';
import type { TenantFrom } from '@lithodex/kinds';
import { takePoint } from '@lithodex/mover';
import { ImapFlow } from 'imapflow';
import { startDovecot, type DovecotServer } from '../scripts/launcher/dovecot.mjs';
import { quietly } from '../tests/support/store-kit';
import type { Kept, Result } from './result';

const folders = ['INBOX', 'Archive', 'Works/North', 'Works/South'];
const secret = 'lamps';
const begun = 1_790_000_000;

/** Bytes of a message: most are short, some carry a file, 26 kB in the mean. */
function message(n: number): string {
  const head = `Message-ID: <b${n}@bench.example>\r\nFrom: Ivo Lind <ivo@bench.example>\r\nTo: all@bench.example\r\nSubject: Soundings ${n}\r\nMIME-Version: 1.0\r\n`;
  const text = 'The second pass is done and the depths are as we hoped.\r\n'.repeat(20 + (n % 60));
  if (n % 5) return `${head}Content-Type: text/plain\r\n\r\n${text}`;
  const file = randomBytes(80_000).toString('base64').replace(/.{76}/g, '$&\r\n');
  return `${head}Content-Type: multipart/mixed; boundary="=_b"\r\n\r\n--=_b\r\nContent-Type: text/plain\r\n\r\n${text}\r\n--=_b\r\nContent-Type: application/octet-stream; name="plan.bin"\r\nContent-Transfer-Encoding: base64\r\n\r\n${file}\r\n--=_b--\r\n`;
}

function fill(server: DovecotServer, login: string, mails: number): number {
  let bytes = 0;
  const store = server.storeOf(login);
  for (const folder of folders)
    for (const part of ['cur', 'new', 'tmp']) fs.mkdirSync(path.join(store, folder === 'INBOX' ? '' : folder, part), { recursive: true });
  for (let n = 0; n < mails; n++) {
    const folder = folders[n % folders.length]!;
    const text = message(n);
    bytes += text.length;
    const file = path.join(store, folder === 'INBOX' ? '' : folder, 'cur', `${begun + n}.M${n}P1.bench,S=${text.length}:2,S`);
    fs.writeFileSync(file, text);
    fs.utimesSync(file, begun + n, begun + n);
  }
  for (const e of fs.readdirSync(path.dirname(store), { recursive: true }))
    fs.chownSync(path.join(path.dirname(store), String(e)), ...server.owner);
  fs.chownSync(path.dirname(store), ...server.owner);
  return bytes;
}

/** Everything of a mailbox by the plain loop that anybody would write. */
async function plainLoop(port: number, login: string): Promise<number> {
  const client = new ImapFlow({ host: '127.0.0.1', port, secure: false, auth: { user: `${login}*keeper`, pass: secret }, logger: false });
  await client.connect();
  let bytes = 0;
  for (const { path: at, flags } of await client.list()) {
    if (flags.has('\\Noselect') || flags.has('\\NonExistent')) continue;
    const lock = await client.getMailboxLock(at, { readOnly: true });
    if (client.mailbox && client.mailbox.exists)
      for await (const m of client.fetch('1:*', { uid: true, flags: true, internalDate: true, source: true }))
        bytes += m.source?.length ?? 0;
    lock.release();
  }
  await client.logout();
  return bytes;
}

/** Mailboxes of a real mail server: a first full beside a plain loop that only fetches, then again with nothing changed. */
export async function mailBench(
  folder: string,
  people: number,
  mails: number,
  runs: number,
  report: (r: Result) => void,
  keeps: (k: Kept) => void,
): Promise<void> {
  fs.chmodSync(folder, 0o755);
  const logins = Array.from({ length: people }, (_, n) => `person${n}`);
  const server = await startDovecot(`${folder}/mail`, {
    people: Object.fromEntries(logins.map((l) => [l, { password: 'x' }])),
    masters: { keeper: secret },
  });
  const from = (login: string): TenantFrom => ({
    kind: 'tenant',
    member: { type: 'person', login, name: login },
    server: {
      kind: 'tenant',
      id: 1,
      people: { by: 'list', logins },
      mail: { host: '127.0.0.1', port: server.port, encryption: 'none', account: 'keeper', separator: '*' },
      groupware: null,
      drives: null,
      sites: null,
      chat: null,
      authority: null,
      secrets: { mail: secret },
    },
  });
  let number = 0;
  const take = async (store: Store, login: string, previous: string | null) => {
    const taskId = `00000000-0000-4000-8000-${String(++number).padStart(12, '0')}`;
    const work = { taskId, seriesId: login, workload: { id: login, name: login, source: 'bench', path: '' }, from: from(login) };
    await takePoint(store, { ...work, kind: 'incremental', previous, moment: Date.now(), include: [], exclude: [] }, quietly);
    return taskId;
  };
  const timed = async (act: () => Promise<void>) => {
    const at = performance.now();
    await act();
    return (performance.now() - at) / 1000;
  };
  try {
    let bytes = 0;
    for (const login of logins) bytes += fill(server, login, mails);
    // the server makes its indexes when a folder is opened first
    for (const login of logins) await plainLoop(server.port, login);
    const [ours, peers, again]: [number[], number[], number[]] = [[], [], []];
    for (let run = 0; run < runs; run++) {
      const place = `${folder}/store-${run}`;
      fs.mkdirSync(place);
      const store = await Store.create(new DiskFolder(place), randomBytes(32), new Date());
      peers.push(
        await timed(async () => {
          for (const login of logins) await plainLoop(server.port, login);
        }),
      );
      const points = new Map<string, string>();
      ours.push(
        await timed(async () => {
          for (const login of logins) points.set(login, await take(store, login, null));
        }),
      );
      again.push(
        await timed(async () => {
          for (const login of logins) await take(store, login, points.get(login)!);
        }),
      );
      await closePools();
      fs.rmSync(place, { recursive: true });
    }
    const [ours_s, peer_s] = [median(ours), median(peers)];
    const peak_mb = Math.round(process.resourceUsage().maxRSS / 1024);
    const bench = `mail, ${people} people, ${people * mails} messages, ${Math.round(bytes / 1_000_000)} MB`;
    report({ bench, peer: 'a plain fetch loop', ours_s, peer_s, ratio: peer_s / ours_s, runs, peak_mb });
    keeps({ bench: 'mail, nothing changed', found: (median(again) / ours_s) * 100, below: 5, unit: '% of the first' });
    keeps({ bench: 'mail, memory', found: peak_mb, below: 400, unit: 'MB' });
  } finally {
    await server.stop();
  }
}
