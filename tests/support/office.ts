import { createHash } from 'node:crypto';
import fs from 'node:fs';
import path from 'node:path';
import type { BodyInput } from '@lithodex/contract';
import { TenantService, type DirectoryContent } from '@lithodex/standins';
import { ImapFlow } from 'imapflow';
import { startDovecot, type DovecotServer } from '../../scripts/launcher/dovecot.mjs';
import { startRadicale, type RadicaleServer } from '../../scripts/launcher/radicale.mjs';

const password = 'tide table 7';
export const masterSecret = 'lamp "oil" and wicks';
const domain = 'kelmar-harbour.example';

/** What a mailbox holds: by folder, a line for each message. */
export type MailboxNow = Readonly<Record<string, readonly string[]>>;

/** The services of an office tenant: a real mail server, a real calendar server, and the stand-in for the rest. */
export class Office {
  private constructor(
    readonly folder: string,
    private mailServer: DovecotServer,
    readonly calendars: RadicaleServer,
    readonly service: TenantService,
  ) {}

  static async start(folder: string, directory: DirectoryContent, storage?: Readonly<Record<string, number>>): Promise<Office> {
    fs.mkdirSync(folder, { recursive: true });
    for (let at = folder; at !== '/'; at = path.dirname(at)) if (at.startsWith('/tmp/')) fs.chmodSync(at, 0o755);
    const logins = directory.people.map((p) => p.login);
    const mail = await startDovecot(`${folder}/mail-server`, {
      people: Object.fromEntries(logins.map((l) => [l, { password, ...(storage?.[l] && { storage: storage[l] }) }])),
      masters: { keeper: masterSecret },
    });
    const calendars = await startRadicale(`${folder}/calendar-server`, {
      people: Object.fromEntries(logins.map((l) => [l, password])),
      keeper: { name: 'keeper', password: masterSecret },
    });
    const service = new TenantService({ folder: `${folder}/services`, domain, secret: masterSecret });
    service.directory = directory;
    await service.start();
    for (const login of logins) fs.mkdirSync(`${folder}/services/drives/${login}`, { recursive: true });
    return new Office(folder, mail, calendars, service);
  }

  get mail(): DovecotServer {
    return this.mailServer;
  }

  /** Ends the mail server and starts it again at the same port, with what it had. */
  async restartMail(): Promise<void> {
    const { port } = this.mailServer;
    await this.mailServer.stop();
    this.mailServer = await startDovecot(`${this.folder}/mail-server`, { people: {}, masters: { keeper: masterSecret }, port });
  }

  async stop(): Promise<void> {
    await Promise.all([this.mail.stop(), this.calendars.stop(), this.service.stop()]);
  }

  body(name = 'Office'): BodyInput<'addSystem'> & { address: { kind: 'tenant' } } {
    const { url } = this.service;
    return {
      name,
      location: 'Harbour office',
      address: {
        kind: 'tenant',
        people: { by: 'scim', url: `${url}/scim/v2` },
        mail: { host: '127.0.0.1', port: this.mail.port, encryption: 'none', account: 'keeper', separator: '*' },
        groupware: { url: `http://127.0.0.1:${this.calendars.port}/{login}/`, account: 'keeper' },
        drives: { url: `${url}/drives/{login}/`, account: 'keeper' },
        sites: { url: `${url}/sites/`, account: 'keeper' },
        chat: { url: `${url}/chat`, domain },
      },
      secret: JSON.stringify({
        people: masterSecret,
        mail: masterSecret,
        groupware: masterSecret,
        drives: masterSecret,
        sites: masterSecret,
        chat: masterSecret,
      }),
    };
  }

  /** Somebody at their own mailbox. */
  async as<T>(login: string, act: (client: ImapFlow) => Promise<T>): Promise<T> {
    const client = new ImapFlow({
      host: '127.0.0.1',
      port: this.mail.port,
      secure: false,
      auth: { user: login, pass: password },
      logger: false,
    });
    client.on('error', () => undefined);
    await client.connect();
    try {
      return await act(client);
    } finally {
      await client.logout().catch(() => undefined);
    }
  }

  /** Everything of a mailbox: sum, flags and time of each message. */
  async mailbox(login: string): Promise<MailboxNow> {
    return this.as(login, async (client) => {
      const found: Record<string, string[]> = {};
      for (const { path: at, flags } of await client.list()) {
        if (flags.has('\\Noselect') || flags.has('\\NonExistent')) continue;
        const lock = await client.getMailboxLock(at, { readOnly: true });
        try {
          const lines: string[] = [];
          if (client.mailbox && client.mailbox.exists)
            for await (const m of client.fetch('1:*', { uid: true, flags: true, internalDate: true, source: true })) {
              const sum = createHash('sha256').update(m.source!).digest('hex');
              const own = [...m.flags!].filter((f) => f !== '\\Recent').sort();
              lines.push(`${sum} ${new Date(m.internalDate!).toISOString()} ${own.join(' ')}`);
            }
          found[at] = lines.sort();
        } finally {
          lock.release();
        }
      }
      return found;
    });
  }

  /** Asks the calendar server as somebody. */
  async dav(
    login: string,
    method: string,
    at: string,
    body?: string,
    headers: Record<string, string> = {},
  ): Promise<{ status: number; text: string }> {
    const authorization = `Basic ${Buffer.from(`${login}:${password}`).toString('base64')}`;
    const answer = await fetch(`http://127.0.0.1:${this.calendars.port}/${login}/${at}`, {
      method,
      headers: { authorization, ...headers },
      ...(body !== undefined && { body }),
    });
    return { status: answer.status, text: await answer.text() };
  }

  async makeCalendar(login: string, name: string, title: string): Promise<void> {
    await this.dav(
      login,
      'MKCALENDAR',
      `${name}/`,
      `<c:mkcalendar xmlns:d="DAV:" xmlns:c="urn:ietf:params:xml:ns:caldav"><d:set><d:prop><d:displayname>${title}</d:displayname></d:prop></d:set></c:mkcalendar>`,
    );
  }

  async makeBook(login: string, name: string, title: string): Promise<void> {
    await this.dav(
      login,
      'MKCOL',
      `${name}/`,
      `<d:mkcol xmlns:d="DAV:" xmlns:a="urn:ietf:params:xml:ns:carddav"><d:set><d:prop><d:resourcetype><d:collection/><a:addressbook/></d:resourcetype><d:displayname>${title}</d:displayname></d:prop></d:set></d:mkcol>`,
    );
  }

  drive(login: string, file: string): string {
    return `${this.folder}/services/drives/${login}/${file}`;
  }

  site(name: string, file = ''): string {
    return `${this.folder}/services/sites/${name}/${file}`;
  }
}

/** A message as its sender's program writes it. */
export function messageOf(n: number, more: { subject?: string; body?: string; attachment?: Buffer } = {}): Buffer {
  const head = [
    `Message-ID: <m${n}@${domain}>`,
    `From: "Ivo Lind" <ivo.lind@${domain}>`,
    `To: Ragna Holt <ragna.holt@${domain}>`,
    `Subject: ${more.subject ?? `Soundings berth ${n}`}`,
    'Date: Fri, 20 Nov 2026 09:14:00 +0100',
    'MIME-Version: 1.0',
  ];
  const body = more.body ?? `Depths of the second pass, line ${n}.`;
  if (!more.attachment) return Buffer.from([...head, 'Content-Type: text/plain; charset=utf-8', '', body, ''].join('\r\n'));
  const lines = more.attachment.toString('base64').replace(/.{76}/g, '$&\r\n');
  return Buffer.from(
    [
      ...head,
      'Content-Type: multipart/mixed; boundary="=_quay"',
      '',
      '--=_quay',
      'Content-Type: text/plain; charset=utf-8',
      '',
      body,
      '--=_quay',
      'Content-Type: application/pdf; name="plan.pdf"',
      'Content-Disposition: attachment; filename="plan.pdf"',
      'Content-Transfer-Encoding: base64',
      '',
      lines,
      '--=_quay--',
      '',
    ].join('\r\n'),
  );
}

export const appointmentOf = (uid: string, title: string, start: string, more = ''): string =>
  [
    'BEGIN:VCALENDAR',
    'VERSION:2.0',
    'PRODID:-//Kelmar//Quay//EN',
    'BEGIN:VEVENT',
    `UID:${uid}`,
    'DTSTAMP:20261101T080000Z',
    `DTSTART;TZID=Europe/Oslo:${start}`,
    `SUMMARY:${title}`,
    'LOCATION:Quay 3',
    'ATTENDEE;CN=Ivo Lind:mailto:ivo.lind@kelmar-harbour.example',
    ...(more ? [more] : []),
    'END:VEVENT',
    'END:VCALENDAR',
    '',
  ].join('\r\n');

export const cardOf = (uid: string, name: string): string =>
  ['BEGIN:VCARD', 'VERSION:3.0', `UID:${uid}`, `FN:${name}`, `N:${name};;;;`, 'EMAIL:pilot@kelmar-harbour.example', 'END:VCARD', ''].join(
    '\r\n',
  );
