import { execFileSync } from 'node:child_process';
import { randomBytes } from 'node:crypto';
import fs from 'node:fs';
import { DiskFolder, Store } from '@lithodex/engine';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { pointOfDisks } from '../../../../tests/support/machine-point';
import { temporaryFolder } from '../../../../tests/support/nasty-tree';
import type { OpenPoint } from '../connector';
import { findItem, OpenedTrees } from '../find-item';
import { closePools } from '../pools';
import { everythingBelow, type FoundItem } from '../readable-tree';
import { itemFacts } from '../tenant/item-facts';
import { storedBytes } from '../tenant/stored-bytes';
import { MailStoreSystem } from './mail-store-system';
import { mailStoresBelow } from './open-mail-store';

let base: string;
let point: OpenPoint;
const opened = new OpenedTrees();
/** A line that mailboxes of one file mark, and not all in the same way. */
const marked = '>From quoted\r\n';
const message = (n: number, quoted = marked) =>
  `From: "Ivo Lind" <ivo.lind@kelmar.example>\r\nSubject: Soundings ${n}\r\nMessage-ID: <m${n}@quay>\r\n\r\nHello ${n}\r\nFrom here on deep.\r\n${quoted}`;

/** A command of the mail server, as the account that its files are to belong to. */
function doveadm(layout: string, args: readonly string[], input = ''): void {
  const command = ['doveadm', '-c', `${base}/dovecot.conf`, '-o', `mail_location=${layout}:${base}/tree/home/${layout}`, ...args];
  const [program, ...rest] =
    process.getuid?.() === 0 ? ['setpriv', '--reuid=nobody', '--regid=nogroup', '--clear-groups', ...command] : command;
  execFileSync(program!, rest, { input, stdio: 'pipe', env: { ...process.env, USER: 'nobody', HOME: `${base}/run` } });
}

beforeAll(async () => {
  base = temporaryFolder('mailstore');
  fs.chmodSync(base, 0o755);
  for (const sub of ['run', 'tree/home', 'tree/var/mail', 'store']) fs.mkdirSync(`${base}/${sub}`, { recursive: true });
  fs.writeFileSync(
    `${base}/dovecot.conf`,
    `base_dir = ${base}/run\nstate_dir = ${base}/run\nssl = no\nlog_path = ${base}/run/log\nnamespace inbox {\n  inbox = yes\n  separator = /\n}\n`,
  );
  for (const folder of ['run', 'tree/home']) fs.chmodSync(`${base}/${folder}`, 0o777);
  for (const layout of ['maildir', 'sdbox', 'mdbox']) {
    for (const n of [1, 2, 3]) doveadm(layout, ['save', '-m', 'INBOX'], message(n));
    doveadm(layout, ['mailbox', 'create', 'Dredging/Böen']);
    doveadm(layout, ['save', '-m', 'Dredging/Böen'], message(4));
    doveadm(layout, ['flags', 'add', '\\Seen \\Flagged Later', 'mailbox', 'INBOX', 'uid', '1']);
  }
  const script = `import mailbox,sys
b = mailbox.mbox(sys.argv[1])
for n in (1, 2, 3):
    m = mailbox.mboxMessage(sys.argv[1 + n].replace('\\r\\n', '\\n').encode())
    m.set_from('ivo@kelmar.example', (2026, 11, 30, 10, n, 0, 0, 0, 0))
    if n == 1: m.set_flags('RF')
    b.add(m)
b.close()`;
  execFileSync('/usr/bin/python3', ['-c', script, `${base}/tree/var/mail/anna`, ...[1, 2, 3].map((n) => message(n, ''))]);
  fs.writeFileSync(`${base}/tree/var/mail/notes.txt`, 'no mail');
  execFileSync('mkfs.ext4', ['-q', '-F', '-d', `${base}/tree`, `${base}/disk`, '24m'], { stdio: 'pipe' });
  const store = await Store.create(new DiskFolder(`${base}/store`), randomBytes(32), new Date(0));
  point = await pointOfDisks(store, 'm1', { 0: fs.readFileSync(`${base}/disk`) });
}, 60_000);
afterAll(async () => {
  await closePools();
  fs.rmSync(base, { recursive: true, force: true });
});

const at = (path: string) => findItem(point, ['disks/0.raw/volume', path].filter(Boolean).join('/'), opened);
async function mailsIn(store: string): Promise<Map<string, (Pick<FoundItem, 'tree' | 'entry'> & { folder: string })[]>> {
  const { tree, entry } = await at(`${store}/~mail/Mail`);
  const found = new Map<string, (Pick<FoundItem, 'tree' | 'entry'> & { folder: string })[]>();
  for await (const { path, entry: item } of everythingBelow(tree, entry, 'Mail')) {
    if (item.kind !== 'file') continue;
    const folder = path
      .split('/')
      .slice(1, -1)
      .map((part) => Buffer.from(part, 'latin1').toString())
      .join('/');
    found.set(folder, [...(found.get(folder) ?? []), { tree, entry: item, folder }]);
  }
  return found;
}

describe('a mail store inside a disk', () => {
  it('is found by how it is laid out', async () => {
    const { tree, entry } = await at('');
    const { stores, whole } = await mailStoresBelow(tree, entry);
    expect(whole).toBe(true);
    expect(stores.map((s) => [s.path, s.layout]).sort()).toEqual([
      ['home/maildir', 'Maildir'],
      ['home/mdbox', 'dbox'],
      ['home/sdbox', 'dbox'],
      ['var/mail', 'mbox'],
    ]);
  });

  it.each(['home/maildir', 'home/sdbox', 'home/mdbox', 'var/mail'])('in %s holds every message as its server gives it', async (store) => {
    const found = await mailsIn(store);
    const inbox = found.get(store === 'var/mail' ? 'anna' : 'INBOX')!;
    expect([...found.keys()].sort()).toEqual(store === 'var/mail' ? ['anna'] : ['Dredging/Böen', 'INBOX']);
    expect(inbox).toHaveLength(3);
    for (const one of inbox) {
      const facts = itemFacts(one.entry);
      expect(facts).toMatchObject({ type: 'message', from: '"Ivo Lind" <ivo.lind@kelmar.example>' });
      const n = Number(/Soundings (\d)/.exec((facts as { subject: string }).subject)![1]);
      const bytes = await storedBytes(one);
      expect(bytes.length).toBe(one.entry.size);
      const text = bytes.toString('latin1');
      expect(text.replace(/^(Status|X-Status|Content-[^:]*|MIME-Version): .*\r\n/gm, '')).toBe(
        message(n, store === 'var/mail' ? '' : marked),
      );
      const at = (facts as { at: number }).at;
      expect(at).toBeGreaterThan(Date.UTC(2026, 0, 1));
    }
    if (store !== 'var/mail') expect(found.get('Dredging/Böen')).toHaveLength(1);
  });

  it('keeps how messages were marked, where that stands with them', async () => {
    const flags = async (store: string, folder: string) =>
      (await mailsIn(store))
        .get(folder)!
        .map(({ entry }) => itemFacts(entry))
        .map((f) => (f?.type === 'message' ? [f.id, f.flags] : []))
        .sort();
    expect(await flags('home/maildir', 'INBOX')).toEqual([
      ['<m1@quay>', ['Later', '\\Flagged', '\\Seen']],
      ['<m2@quay>', []],
      ['<m3@quay>', []],
    ]);
    expect((await flags('var/mail', 'anna'))[0]).toEqual(['<m1@quay>', ['\\Flagged', '\\Seen']]);
  });

  it('whose times are none is read all the same', async () => {
    const kept = (at: number) => ({ at, flags: [], bytes: () => Promise.resolve(Buffer.from(message(9))) });
    async function* messages() {
      for (const at of [1e30, -1e30, NaN, 1.5]) yield await Promise.resolve(kept(at));
    }
    const system = new MailStoreSystem([{ folders: ['INBOX'], messages }]);
    const [folders] = await system
      .list(0)
      .next()
      .then((r) => r.value as { key: number }[]);
    const names: string[] = [];
    for await (const items of system.list(folders!.key)) names.push(...items.map((i) => i.name));
    expect(names).toHaveLength(4);
    expect(new Set(names).size).toBe(4);
  });

  it('is nothing but what it is: other folders have none, and damage ends a file where it is', async () => {
    await expect(at('home/~mail/Mail')).rejects.toMatchObject({ code: 'PATH_MISSING' });
    await expect(at('home/maildir/~mail/Mail/None')).rejects.toMatchObject({ code: 'PATH_MISSING' });
    const file = `${base}/tree/home/mdbox/storage/m.1`;
    const bytes = fs.readFileSync(file);
    for (const cut of [10, 47, 200, bytes.length - 3]) {
      fs.writeFileSync(file, bytes.subarray(0, cut));
      execFileSync('mkfs.ext4', ['-q', '-F', '-d', `${base}/tree`, `${base}/disk`, '24m'], { stdio: 'pipe' });
      fs.rmSync(`${base}/store`, { recursive: true });
      fs.mkdirSync(`${base}/store`);
      const store = await Store.create(new DiskFolder(`${base}/store`), randomBytes(32), new Date(0));
      const damaged = await pointOfDisks(store, `m${cut}`, { 0: fs.readFileSync(`${base}/disk`) });
      const { tree, entry } = await findItem(damaged, 'disks/0.raw/volume/home/mdbox/~mail/Mail', new OpenedTrees());
      let messages = 0;
      for await (const { entry: item } of everythingBelow(tree, entry, 'Mail')) if (item.kind === 'file') messages++;
      expect(messages).toBeLessThanOrEqual(4);
    }
  });
});
