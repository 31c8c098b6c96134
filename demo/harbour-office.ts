import fs from 'node:fs';
import path from 'node:path';
import type { Answered } from '@lithodex/contract';
import { TenantChat } from '@lithodex/standins';
import { DateTime } from 'luxon';
import {
  appointment,
  bereft,
  contactCard,
  domain,
  leaver,
  leavingNight,
  mailBetween,
  officeDirectory,
  officeNight,
  officePeople,
  officePolicies,
  officePolicyNight,
  officeSites,
  type OfficeMail,
  type OfficePerson,
} from './harbour/office';
import { nights } from './harbour/story';
import type { Acts } from './harbour-database';
import { Random } from './harbour/random';

/** Where the services of the office are. */
export interface OfficeAccess {
  readonly folder: string;
  readonly url: string;
  readonly secret: string;
  readonly mailPort: number;
  readonly calendarPort: number;
}

interface OfficeActs extends Acts {
  get<T>(person: string, name: 'estate', id: string, query: string): Promise<T>;
}

/** What the people of the harbour office do with their mail, calendars, files and chats. */
export class HarbourOffice {
  private readonly random = new Random(1907);
  private written = 0;
  private systemId = 0;
  private readonly from: DateTime;

  constructor(
    private readonly access: OfficeAccess,
    private readonly acts: OfficeActs,
    begins: number,
  ) {
    this.from = DateTime.fromMillis(begins, { zone: acts.zone });
  }

  private get owner(): readonly [number, number] {
    const { uid, gid } = fs.statSync(`${this.access.folder}/mail/mail`);
    return [uid, gid];
  }

  private storeOf(login: string): string {
    return `${this.access.folder}/mail/mail/${login}/store`;
  }

  private write(login: string, mails: readonly OfficeMail[]): void {
    const made = new Set<string>();
    const folderOf = (name: string) => {
      const at = name === 'INBOX' ? this.storeOf(login) : path.join(this.storeOf(login), name);
      if (!made.has(at))
        for (const part of ['cur', 'new', 'tmp']) {
          const own = path.join(at, part);
          fs.mkdirSync(own, { recursive: true });
          for (let up = own; up.length >= path.dirname(this.storeOf(login)).length; up = path.dirname(up)) fs.chownSync(up, ...this.owner);
        }
      made.add(at);
      return at;
    };
    for (const { folder, at, seen, flagged, text } of mails) {
      const flags = `${flagged ? 'F' : ''}${seen ? 'S' : ''}`;
      const file = path.join(
        folderOf(folder),
        'cur',
        `${Math.floor(at / 1000)}.M${++this.written}P1.kelmar,S=${Buffer.byteLength(text)}:2,${flags}`,
      );
      fs.writeFileSync(file, text);
      fs.chownSync(file, ...this.owner);
      fs.utimesSync(file, at / 1000, at / 1000);
    }
  }

  private collection(login: string, name: string, tag: 'VCALENDAR' | 'VADDRESSBOOK', title: string): string {
    const folder = `${this.access.folder}/calendars/collections/collection-root/${login}/${name}`;
    fs.mkdirSync(folder, { recursive: true });
    const more = tag === 'VCALENDAR' ? { 'C:supported-calendar-component-set': 'VEVENT,VTODO' } : {};
    fs.writeFileSync(`${folder}/.Radicale.props`, JSON.stringify({ tag, 'D:displayname': title, ...more }));
    return folder;
  }

  private begin(person: OfficePerson, until: DateTime): void {
    const { random } = this;
    this.write(person.login, mailBetween(person, this.from, until, 1.2, random));
    const calendar = this.collection(person.login, 'work', 'VCALENDAR', 'Work');
    const put = (uid: string, text: string) => {
      fs.writeFileSync(`${calendar}/${uid}.ics`, text);
    };
    const monday = this.from.startOf('week').set({ hour: 9 });
    put(
      `${person.login}-meeting`,
      appointment(`${person.login}-meeting`, 'Meeting of the group', monday, 60, 'Harbour office', [person], 'FREQ=WEEKLY;COUNT=12'),
    );
    for (let n = 0; n < 14; n++) {
      const start = this.from.plus({ days: random.int(0, 60) }).set({ hour: random.int(8, 15), minute: random.pick([0, 30]) });
      const title = random.pick([
        'Tide gauge, check',
        'Call the yard',
        'Walk along the quay',
        'Board meeting',
        'Boat drill',
        'Permit office',
      ]);
      put(
        `${person.login}-${n}`,
        appointment(`${person.login}-${n}`, title, start, 60, random.pick(['Quay 3', 'Lighthouse', 'Room 12']), [person]),
      );
    }
    if (person === bereft)
      put(
        'crane-inspection',
        appointment(
          'crane-inspection',
          'Crane inspection',
          this.from.plus({ days: 58 }).set({ hour: 9, minute: 0 }),
          90,
          'Quay 3',
          officePeople.slice(0, 3),
        ),
      );
    const book = this.collection(person.login, 'contacts', 'VADDRESSBOOK', 'Contacts');
    for (const other of officePeople.filter((p) => p.group === person.group))
      fs.writeFileSync(`${book}/${other.login}.vcf`, contactCard(`card-${other.login}`, other.name, `${other.login}@${domain}`));
    const drive = `${this.access.folder}/services/drives/${person.login}`;
    fs.mkdirSync(`${drive}/Notes`, { recursive: true });
    fs.writeFileSync(`${drive}/Notes/to do.txt`, `Call the yard\nAsk about boat ${random.int(1, 4)}\n`);
    fs.writeFileSync(
      `${drive}/hours ${this.from.year}.csv`,
      Array.from({ length: 40 }, (_, i) => `${i + 1},${random.int(6, 9)}`).join('\n'),
    );
  }

  private directory(left: boolean): void {
    fs.writeFileSync(`${this.access.folder}/services/people.json`, JSON.stringify(officeDirectory(left)));
    const people = officePeople.filter((p) => !left || p !== leaver);
    const lines = [...people.map((p) => p.login), 'berth-desk'].map((login) => `${login}:${this.access.secret}-${login}:::::\n`);
    fs.writeFileSync(`${this.access.folder}/mail/people`, lines.join(''));
  }

  private chat(until: DateTime): void {
    const chat = new TenantChat(domain, `${this.access.folder}/services/chat.json`);
    const groups = [
      ['Night watch', 'pilots', 'Who sees what'],
      ['Dredging', 'dredging', 'Works at berth 14'],
    ] as const;
    if (chat.roomIds.length === 0)
      for (const [name, group, topic] of groups)
        chat.makeRoom(
          name,
          topic,
          officePeople.filter((p) => p.group === group).map((p) => `@${p.login}:${domain}`),
          this.from.toMillis(),
        );
    const said = ['Fog is lifting.', 'Boat 2 is back.', 'Tide turns at four.', 'The crane is free now.', 'Who has the key?', 'On my way.'];
    chat.roomIds.forEach((room, i) => {
      const people = officePeople.filter((p) => p.group === groups[i]?.[1]);
      for (let n = 0; n < 30 && people.length; n++)
        chat.add(
          room,
          `@${this.random.pick(people).login}:${domain}`,
          'm.room.message',
          { msgtype: 'm.text', body: this.random.pick(said) },
          until.minus({ minutes: (30 - n) * 23 }).toMillis(),
        );
    });
    chat.save();
  }

  /** What happens by day before an evening. `at`: sets the clock of the story, and lets what is due happen. */
  async day(night: number, evening: DateTime, targetId: string, at: (moment: DateTime) => Promise<void>): Promise<void> {
    if (night === nights - 1) await this.goesMissing(evening, targetId, at);
  }

  /** What happens in the evening. */
  async night(night: number, evening: DateTime, targetId: string): Promise<void> {
    if (night === officeNight) await this.connect(evening, targetId);
    if (night === leavingNight) await this.leaves();
    if (night === officePolicyNight) await this.protect(targetId);
  }

  private async connect(evening: DateTime, targetId: string): Promise<void> {
    const { access } = this;
    fs.mkdirSync(`${access.folder}/services`, { recursive: true });
    this.directory(false);
    for (const person of officePeople) this.begin(person, evening);
    fs.mkdirSync(`${access.folder}/services/drives/berth-desk`, { recursive: true });
    this.write('berth-desk', mailBetween({ login: 'berth-desk', name: 'Berth desk', group: 'office' }, this.from, evening, 1, this.random));
    for (const [site, files] of Object.entries(officeSites))
      for (const [file, text] of Object.entries(files)) {
        const to = `${access.folder}/services/sites/${site}/${file}`;
        fs.mkdirSync(path.dirname(to), { recursive: true });
        fs.writeFileSync(to, text);
      }
    this.chat(evening);
    const account = 'keeper';
    const { secret } = access;
    const { id } = await this.acts.call('eva.vind', 'addSystem', {
      name: 'Harbour office',
      location: 'Server room',
      address: {
        kind: 'tenant',
        people: { by: 'scim', url: `${access.url}/scim/v2` },
        mail: { host: '127.0.0.1', port: access.mailPort, encryption: 'none', account, separator: '*' },
        groupware: { url: `http://127.0.0.1:${access.calendarPort}/{login}/`, account },
        drives: { url: `${access.url}/drives/{login}/`, account },
        sites: { url: `${access.url}/sites/`, account },
        chat: { url: `${access.url}/chat`, domain },
      },
      secret: JSON.stringify({ people: secret, mail: secret, groupware: secret, drives: secret, sites: secret, chat: secret }),
    });
    this.systemId = id;
    const workload = await this.find(leaver.name);
    await this.acts.call('eva.vind', 'protectOnce', workload, { targetId, keep: { by: 'hand' }, note: 'before he leaves' });
    await this.acts.quiet();
  }

  private async find(name: string): Promise<number> {
    const { workloads } = await this.acts.get<Answered<'estate'>>('eva.vind', 'estate', '', `?q=${encodeURIComponent(name)}`);
    return workloads.find((w) => w.name === name)!.id;
  }

  /** His mailbox, calendar and drive are removed. */
  private async leaves(): Promise<void> {
    this.directory(true);
    const { folder } = this.access;
    for (const at of [
      `${folder}/mail/mail/${leaver.login}`,
      `${folder}/calendars/collections/collection-root/${leaver.login}`,
      `${folder}/services/drives/${leaver.login}`,
    ])
      fs.rmSync(at, { recursive: true, force: true });
    await this.acts.call('eva.vind', 'readSystem', this.systemId, undefined);
  }

  private async protect(targetId: string): Promise<void> {
    const { name, schedule, keep } = officePolicies.all;
    await this.acts.call('eva.vind', 'addPolicy', {
      zone: this.acts.zone,
      name,
      workloads: [],
      tags: ['people', 'shared mailboxes', 'sites', 'chat rooms'],
      objectiveHours: 26,
      changeLimit: 60,
      rules: [{ no: 1, kind: 'incremental', schedule, keep, targetId }],
    });
  }

  /** The newest messages of an inbox go, for good. */
  losesNewest(login: string, messages: number): void {
    const folder = `${this.storeOf(login)}/cur`;
    for (const name of fs.readdirSync(folder).sort().slice(-messages)) fs.rmSync(path.join(folder, name));
  }

  /** On the last day a phone empties a folder, and an appointment is moved by mistake; the points of the day show between which hours. */
  private async goesMissing(evening: DateTime, targetId: string, at: (moment: DateTime) => Promise<void>): Promise<void> {
    const { name, times, keep } = officePolicies.dredging;
    const day = evening.startOf('day');
    const morning = day.set({ hour: 9 });
    for (const person of officePeople.filter((p) => p !== leaver))
      this.write(person.login, mailBetween(person, this.from.plus({ days: officeNight }), morning, 1.2, this.random));
    this.chat(morning);
    const person = bereft;
    await at(morning.plus({ minutes: 5 }));
    await this.acts.call('eva.vind', 'addPolicy', {
      zone: this.acts.zone,
      name,
      workloads: [],
      tags: ['dredging'],
      objectiveHours: 26,
      changeLimit: 90,
      rules: times.map((time, n) => ({
        no: n + 1,
        kind: 'incremental' as const,
        schedule: { every: 'day' as const, at: time },
        keep,
        targetId,
      })),
    });
    await at(day.set({ hour: 10, minute: 1 }));
    const store = this.storeOf(person.login);
    fs.rmSync(path.join(store, 'Dredging/Berth 14'), { recursive: true, force: true });
    const calendar = `${this.access.folder}/calendars/collections/collection-root/${person.login}/work/crane-inspection.ics`;
    const moved = fs
      .readFileSync(calendar, 'utf8')
      .replace(/DTSTART:(\d{8})T\d{2}/, 'DTSTART:$1T13')
      .replace(/DTEND:(\d{8})T\d{2}/, 'DTEND:$1T14');
    fs.writeFileSync(calendar, moved);
    const page = `${this.access.folder}/services/sites/Pilots' handbook/pages/Fog.md`;
    fs.writeFileSync(page, '# Fog\n\nto be written\n');
    await at(day.set({ hour: 14, minute: 1 }));
  }
}
