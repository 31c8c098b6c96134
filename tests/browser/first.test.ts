import { createHash } from 'node:crypto';
import fs from 'node:fs';
import path from 'node:path';
import { TOTP } from 'otpauth';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { parseEnvelope } from '@lithodex/engine';
import { Visitor } from '../support/browser';
import { Harness } from '../support/harness';

const code = 'lxf_a-code-for-the-first-one';
let h: Harness;
let eva: Visitor;

beforeAll(async () => {
  h = await Harness.start({ webDir: path.resolve('packages/web/dist/browser') });
  await h.server.deps.db('person').delete();
  const rules = { secondFor: ['administrator'], idleMinutes: 240 };
  await h.server.deps.db('setting').insert({ name: 'sign-in', value: JSON.stringify(rules) });
  h.server.deps.config.firstCode = createHash('sha256').update(code).digest('hex');
  fs.mkdirSync(`${h.folder}/office`);
  fs.writeFileSync(`${h.folder}/office/letter.txt`, 'dear harbour master');
  await h.moverReady();
  eva = await Visitor.arrive(h.base.replace('127.0.0.1', 'localhost'));
});
afterAll(async () => {
  await eva.leave();
  await h.stop();
});

describe('a new installation', () => {
  it('says where the first account comes from, and makes it by the address that was printed', async () => {
    await eva.open('/sign-in');
    await eva.sees('Nobody has an account here yet');
    await eva.open('/begin');
    await eva.sees('This address is not whole');
    await eva.open(`/begin?code=${code}`);
    await eva.type('Your name', 'Eva Vind');
    await eva.type('Password, at least 12 characters', 'some unusual lanterns');
    await eva.press('Begin');
    await eva.press('Set up codes by an authenticator');
    await eva.sees('Let an authenticator read this picture');
    const secret = await eva.page.$eval('code', (e) => e.textContent);
    await eva.type('Code it shows', new TOTP({ secret }).generate());
    await eva.press('Use it from now on');
    await eva.press('I have kept them');
    await eva.sees('1 of 7 done. Until all are, do not rely on it.');
  });

  it('leads from step to step, until the first restore was tried', async () => {
    await eva.press('Add a target');
    await eva.sees('There is no target yet');
    await eva.press('Add a target');
    await eva.type('Name', 'quay-disk');
    await eva.type('Folder on the mover', `${h.folder}/disk`);
    await eva.press('Test it');
    await eva.sees('The mover can write there');
    await eva.press('Add');
    await eva.sees('All points at full size');

    await eva.open('/first-steps');
    await eva.sees('1 target without: quay-disk');
    await eva.press('Fetch the key envelope');
    await eva.press('Key envelope');
    await eva.type('Passphrase', 'three lanterns on the mole');
    await eva.press('Make the envelope');
    await eva.press('Download the file');
    expect(parseEnvelope(fs.readFileSync(await eva.download(), 'utf8')).targetId).toBeTruthy();

    await eva.open('/first-steps');
    await eva.sees('3 of 7 done');
    await eva.press('Connect it');
    await eva.press('Connect …');
    await eva.press('Connect a source');
    await eva.type('Name', 'harbour-office');
    await eva.type('Folder on the mover', `${h.folder}/office`);
    await eva.type('Tags', 'office');
    await eva.press('Test the connection');
    await eva.sees('Everything looked at can be read');
    await eva.press('Connect');
    await eva.sees('no policy matches it');

    await eva.open('/first-steps');
    await eva.press('Write a policy');
    await eva.sees('It matches no workload, so it protects nothing');
    await eva.type('Name of the policy', 'Office, nightly');
    await eva.choose('tag', 'office');
    await eva.sees('1 workload matches now');
    await eva.press('Put in force');
    await eva.press('Run now');
    await eva.sees('point stored');

    await eva.open('/first-steps');
    await eva.sees('6 of 7 done');
    await eva.open('/watch');
    await eva.sees('1 of 7 first steps is left.');
    await eva.press('1 of 7 first steps is left.');
    fs.rmSync(`${h.folder}/office/letter.txt`);
    await eva.press('Recover something');
    await eva.type('Any part of a name', 'letter');
    await eva.press('letter.txt');
    await eva.press('Pick');
    await eva.press('Open the restore sheet');
    await eva.type('what happened', 'trying the first restore');
    await eva.press('Start restore');
    await eva.sees('every sum checked');
    expect(fs.readFileSync(`${h.folder}/office/letter.txt`, 'utf8')).toBe('dear harbour master');
    await eva.open('/first-steps');
    await eva.sees('All done: this installation can be relied on.');
    await eva.open('/about');
    await eva.sees('HTTP, unless a proxy in front speaks HTTPS');
    expect(eva.problems).toEqual([]);
  });
});
