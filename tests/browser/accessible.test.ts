import fs from 'node:fs';
import path from 'node:path';
import { fillServer, hardwareOf, type MadeServer } from '@lithodex/standins';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { violationsInBothThemes } from '../support/accessible';
import { Visitor } from '../support/browser';
import { Harness, passwords, policyFor, type Client } from '../support/harness';

let h: Harness;
let admin: Client;
let eva: Visitor;
const gate: MadeServer = { host: 'quay-gate', address: '192.0.2.37/24', disks: [64e9, 500e9], used: [31e9, 212e9] };
const ids = { server: 0, workload: 0, policy: 0, run: 0, target: '' };

beforeAll(async () => {
  h = await Harness.start({ webDir: path.resolve('packages/web/dist/browser'), movers: 0 });
  const room = `${h.folder}/quay-gate`;
  fillServer(room, gate, Date.now());
  fs.writeFileSync(`${h.folder}/quay-gate.json`, JSON.stringify(hardwareOf(gate)));
  fs.writeFileSync(`${h.folder}/mover.json`, JSON.stringify({ hardware: { [room]: `${h.folder}/quay-gate.json` } }));
  h.startMover('mover-1');
  admin = await h.withToken('administrator');
  const { source, workloadId, targetId } = await h.connect(admin);
  const sample = 'LITHODEX-HARMLESS-SAMPLE-OF-MALWARE-7Q4X';
  fs.writeFileSync(`${source}/planted.txt`, `${sample}, paid by 4000 0000 0000 0002`);
  for (let i = 0; i < 12; i++) fs.writeFileSync(`${source}/sheet-${i}.txt`, `sheet ${i}`);
  const server = await admin.call('addSource', { body: { name: 'quay-gate', folder: room, wholeServer: true } });
  const body = policyFor([workloadId, server.workloadId], targetId, {
    name: 'Server room',
    schedule: { every: 'hours', hours: 4, at: '00:00' },
  });
  const { id } = await admin.call('addPolicy', { body });
  const { runId } = await admin.call('runPolicy', { id, body: {} });
  await admin.ended(runId);
  await admin.call('addToken', { body: { name: 'nightly report', role: 'auditor' } });
  await admin.call('addNotice', {
    body: { name: 'The morning', about: { what: 'digest', at: '07:00' }, way: { by: 'mail', to: ['ole@kelmar.example'] } },
  });
  const proof = { to: 'folder' as const, folder: `${h.folder}/proof` };
  const again = { name: 'It comes back', workloads: [workloadId], schedule: { every: 'day' as const, at: '05:00' }, reason: 'a proof' };
  const standing = await admin.call('addStanding', { body: { ...again, destination: proof } });
  await admin.ended((await admin.call('startStanding', { id: standing.id })).runId);
  // what is found infected is not brought back again and again
  await admin.call('changeScanSettings', { body: { when: 'never', sensitive: true } });
  await admin.ended((await admin.call('startScan', { body: { workloads: [workloadId] } })).runId);
  const drive = JSON.stringify({ kind: 'webdav', url: 'https://drive.kelmar.example/dav' });
  await h.server.deps.db('share').insert({ name: 'Office drive', address: drive, account: 'clerk' });
  const disk = { serial: 'K3-88', model: '', port: 'port 1', first: true, holds: '1 partition: “old test system”, ext4' };
  const facts = { firmware: 'uefi', architecture: 'x86_64', processor: '', cores: 8, memory: 16e9, cards: [], controllers: [], clock: 0 };
  await h.server.deps.db('unit').insert({
    name: 'C4-07',
    facts: JSON.stringify({ ...facts, disks: [{ ...disk, id: 'K3-88', bytes: 640e9 }] }),
    first_seen: Date.now(),
    last_seen: Date.now(),
  });
  Object.assign(ids, { server: server.workloadId, workload: workloadId, policy: id, run: runId, target: targetId });
  eva = await Visitor.arrive(h.base);
});
afterAll(async () => {
  await eva.leave();
  await h.stop();
});

const inBothThemes = () => violationsInBothThemes(eva);

describe('everybody can use, in both themes,', () => {
  it('the page that asks who one is', async () => {
    await eva.forgetsCookies();
    await eva.open('/sign-in');
    await eva.sees('Password');
    expect(await inBothThemes()).toEqual([]);
    await eva.signIn('administrator', passwords.administrator);
  });

  it.each([
    ['/watch', 'Watch'],
    ['/watch/installations', 'this one'],
    ['/estate', 'quay-1'],
    [() => `/estate/${ids.workload}`, 'quay-1'],
    [() => `/estate/${ids.server}/ready`, 'It could be rebuilt on other hardware'],
    ['/policies', 'Server room'],
    [() => `/policies/${ids.policy}`, 'Server room'],
    ['/policies/calendar', 'Monday'],
    ['/runs', 'Server room'],
    ['/runs/movers', 'mover-1'],
    [() => `/runs/${ids.run}`, 'Server room'],
    ['/recover', 'Recover'],
    ['/recover/sheet', 'The pick list is empty'],
    ['/recover/attached', 'Nothing is attached'],
    ['/recover/list', 'Paste the list'],
    ['/recover/running', 'No machine runs from the store'],
    ['/recover/standing?shown=1', 'read again, each as it was stored'],
    ['/recover/units', 'old test system'],
    [() => `/recover/rebuild?unit=C4-07&workload=${ids.server}`, 'may be erased'],
    ['/recover/shares', 'Office drive'],
    ['/storage', 'quay-disk'],
    [() => `/storage/${ids.target}`, 'quay-disk'],
    ['/reports', 'Reports'],
    ['/reports/notices', 'The morning'],
    ['/trust/acts', 'Audit trail'],
    ['/trust', 'What changed'],
    ['/trust/scans', 'harmless_sample'],
    ['/trust/sensitive', 'Read uncovered'],
    ['/trust/drills', 'what is always looked at'],
    ['/recover/sequences', 'tried by drills'],
    ['/recover/sequences/new', 'What this comes to'],
    ['/trust/strike', 'Cross something out'],
    ['/trust/people', 'administrator'],
    ['/trust/tokens', 'nightly report'],
    ['/account', 'How you sign in'],
  ])('%s', async (at, text) => {
    await eva.open(typeof at === 'string' ? at : at());
    await eva.sees(text);
    expect(await inBothThemes()).toEqual([]);
  });
});
