import path from 'node:path';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { letGuestWrite, platformFine, type PlatformService } from '@lithodex/standins';
import { violationsInBothThemes } from '../support/accessible';
import { Visitor } from '../support/browser';
import { itLong } from '../support/by-command';
import { Harness, passwords, type Client } from '../support/harness';
import { buildLogger, keeper, soundDisks, startPlatform } from '../support/platform';

let h: Harness;
let eva: Visitor;
let admin: Client;
let service: PlatformService;
let endpoint: string;

beforeAll(async () => {
  h = await Harness.start({ webDir: path.resolve('packages/web/dist/browser') });
  admin = await h.withToken('administrator');
  ({ service, endpoint } = await startPlatform(`${h.folder}/platform`));
  await buildLogger(service, 'gate-01', { tags: ['class: daily'] });
  await buildLogger(service, 'gate-02', { tags: ['class: daily'], host: 'mole-2' });
  await buildLogger(service, 'gate-trial', { tags: ['class: daily', 'class: scratch'] });
  await buildLogger(service, 'office-01', { tags: [], folder: '/Harbour/Office' });
  await h.connect(admin);
  eva = await Visitor.arrive(h.base);
  await eva.signIn('administrator', passwords.administrator);
}, 60_000);
afterAll(async () => {
  await eva.leave();
  await h.stop();
  await service.stop();
});

describe('machines of a platform, in the browser', () => {
  it('are found after the platform was tested and connected, what nothing protects first', async () => {
    await eva.open('/estate');
    await eva.press('Connect …');
    await eva.press('Connect a platform');
    await eva.type('Name', 'Harbour platform');
    await eva.type('Address', endpoint);
    await eva.type('Account', keeper.name);
    await eva.type('Password', 'wrong');
    await eva.press('Test the connection');
    await eva.sees('The platform refused the sign-in');
    await eva.type('Password', keeper.password);
    await eva.press('Test the connection');
    await eva.sees('The account may do all that is needed');
    await eva.sees('so that a machine can be read while it works');
    await eva.press('Connect');
    await eva.sees('5 unprotected');
    await eva.press('harbour');
    await eva.sees('gate-trial');
    expect(eva.address.searchParams.get('part')).toBe('harbour');
  });

  it('are protected by a rule with an exclusion, seen before, put in force and run', async () => {
    await eva.open('/policies/new');
    await eva.type('Name of the policy', 'Machines, nightly');
    await eva.type('source quay-* and not', 'kind machine and tag "class: daily"');
    await eva.keys('Tab');
    await eva.sees('3 workloads match now');
    await eva.type('name test-*', 'tag "class: scratch"');
    await eva.keys('Tab');
    await eva.sees('2 workloads match now');
    await eva.choose('names inside disks', 'kept with each point');
    await eva.press('Put in force');
    await eva.page.waitForFunction(() => /\/policies\/\d+$/.test(location.pathname));
    await eva.press('Trial run');
    await eva.sees('nothing was moved');
    await eva.page.goBack();
    await eva.press('Run now');
    await eva.sees('the machine was frozen, programs inside brought to rest');
    await eva.page.waitForFunction(() => document.querySelector('.state')?.textContent?.includes('done'));
  });

  it('that land later with the tag are in the next run', async () => {
    await buildLogger(service, 'gate-03', { tags: ['class: daily'] });
    await eva.open('/policies');
    await eva.press('Machines, nightly');
    await eva.press('Run now');
    await eva.sees('gate-03');
    await eva.page.waitForFunction(() => document.querySelector('.state')?.textContent?.includes('done'));
  });

  it('come back beside what there is, where the other cluster really has room for them', async () => {
    await eva.open('/estate');
    await eva.press('gate-01');
    await eva.sees('programs at rest');
    await eva.press('Restore everything');
    await eva.sees('gate-01 runs: it is stopped');
    await eva.choose('destination', 'a platform, as new machines');
    await eva.sees('Choose a host and a storage first');
    await eva.choose('host', 'rock-1');
    await eva.choose('storage', 'cellar');
    await eva.sees('There is a machine gate-01 already');
    await eva.choose('network', 'the network rock');
    await eva.type('put behind the names', '-back');
    await eva.keys('Tab');
    await eva.sees('gate-01-back on rock-1');
    await eva.press('Agree');
    await eva.type('what happened', 'the gate is rehearsed');
    await eva.press('Start restore');
    await eva.sees('was read again and compared');
    expect(soundDisks(service, 'gate-01-back')).toEqual(soundDisks(service, 'gate-01'));
  });

  itLong('come back three in one sheet, one under a name of its own', async () => {
    for (const name of ['gate-01', 'gate-02', 'gate-03']) {
      await eva.open('/estate');
      await eva.press(name);
      await eva.sees('programs at rest');
      await eva.press('Restore everything');
    }
    await eva.sees('3 items from');
    await eva.choose('destination', 'a platform, as new machines');
    await eva.choose('host', 'rock-1');
    await eva.choose('storage', 'cellar');
    await eva.choose('network', 'the network rock');
    await eva.type('put behind the names', '-three');
    await eva.keys('Tab');
    await eva.sees('gate-03-three on rock-1');
    await eva.page.type('lx-machine-own input', 'first-gate');
    await eva.keys('Tab');
    await eva.sees('first-gate on rock-1');
    for (let asked = true; asked;) {
      await eva.page.waitForFunction(() => !document.querySelector('.conseq .skeleton'));
      asked = await eva.page.evaluate(() => [...document.querySelectorAll('button')].some((b) => b.textContent.trim() === 'Agree'));
      if (asked) await eva.press('Agree');
    }
    await eva.type('what happened', 'the gates are rehearsed');
    await eva.press('Start restore');
    await eva.page.waitForFunction(() => document.querySelector('.state')?.textContent?.includes('done'));
    const made = service.platform.inventory().machines.map((m) => m.name);
    expect(made).toEqual(expect.arrayContaining(['first-gate', 'gate-02-three', 'gate-03-three']));
    expect(soundDisks(service, 'gate-03-three')).toEqual(soundDisks(service, 'gate-03'));
  });

  it('are walked into, a single file looked into and put back into the machine that runs', async () => {
    const write = (content: string) =>
      letGuestWrite(service.platform, 'gate-02', 'system', [{ path: '/var/log/gate.log', content: Buffer.from(content) }]);
    await write('emptied by mistake\n');
    await eva.open('/estate');
    await eva.press('gate-02');
    await eva.sees('programs at rest');
    for (const step of ['disks', 'system.raw', 'p2', 'var', 'log']) await eva.press(`▸ ${step}`);
    await eva.press('gate.log');
    await eva.press('Look into it');
    await eva.sees('gate-02 opened');
    await eva.tick('Tick gate.log');
    await eva.press('Restore 1 ticked item');
    await eva.sees('where they were, inside the machine while it runs');
    await eva.sees('gate-02 runs; files are put in by the helper inside.');
    await eva.choose('if it exists', 'replace it');
    await eva.sees('gate-02: /var/log/gate.log');
    const asked = eva.page.waitForFunction(() => document.body.innerText.includes('Agree'), { timeout: 3000 }).catch(() => undefined);
    if (await asked) await eva.press('Agree');
    await eva.type('what happened', 'the log is wanted');
    await eva.press('Start restore');
    await eva.sees('every file summed up inside and compared');
    const back = await service.files.read(service.platform.named('gate-02'), '/var/log/gate.log');
    expect(back.toString()).toBe('gate-02 opened\n'.repeat(2000));
  });

  it('are searched by names inside their disks, over all of them, and have versions', async () => {
    await eva.open('/recover');
    await eva.type('Any part of a name', 'gate.log');
    await eva.sees('disks/system.raw/p2/var/log');
    const { rows } = await admin.call('listPolicies');
    await eva.page.select('select[aria-label=In]', `policy-${rows.find((p) => p.body.name === 'Machines, nightly')!.id}`);
    await eva.sees('disks/system.raw/p2/var/log');
    await eva.press('gate.log');
    await eva.sees('still there');
    await eva.sees('Versions');
  });

  it('are kept on their storage at once, looked into there, and copied to a target', async () => {
    await eva.open('/estate');
    await eva.press('gate-03');
    await eva.press('Protect once');
    await eva.page.select('select[name=kind]', 'onStorage');
    await eva.type('before the upgrade', 'before the barrier');
    await eva.press('Take the snapshot');
    await eva.sees('fast');
    await eva.keys('.');
    await eva.sees('before the barrier, as after a loss of power');
    await eva.sees('lost with it');
    for (const step of ['disks', 'system.raw', 'p2', 'etc']) await eva.press(`▸ ${step}`);
    await eva.press('hostname');
    await eva.press('Look into it');
    await eva.sees('gate-03');
    await eva.press('Copy to a target');
    await eva.press('Copy it');
    await eva.sees('read from the snapshot that fast keeps');
    await eva.page.waitForFunction(() => document.querySelector('.state')?.textContent?.includes('done'));
  });

  it('have a volume attached, which is shown with ready commands and let go again', async () => {
    await eva.open('/estate');
    await eva.press('gate-02');
    await eva.sees('programs at rest');
    for (const step of ['disks', 'system.raw']) await eva.press(`▸ ${step}`);
    await eva.sees('ext4 “system”');
    await eva.tick('Tick p2');
    await eva.press('Restore 1 ticked item');
    await eva.choose('destination', 'a block device that I can read');
    await eva.sees('by whoever has the key that you are shown then');
    await eva.type('what happened', 'to compare with own tools');
    await eva.press('Attach');
    await eva.sees('How to read system.raw-p2');
    await eva.sees('nbdcopy "nbds://lithodex@');
    await eva.press('Detach disks/system.raw/p2');
    await eva.sees('Nothing is attached');
  });

  it('run straight from the store, are copied while they run, and go on without it', async () => {
    await eva.open('/estate');
    await eva.press('gate-01');
    await eva.sees('programs at rest');
    await eva.press('Restore everything');
    await eva.choose('destination', 'a host, run straight from the store');
    await eva.sees('Choose a host first.');
    await eva.choose('host', 'mole-1');
    await eva.choose('room', 'up to 1 GB');
    await eva.sees('It starts within seconds, whatever its size');
    await eva.type('what happened', 'its storage burnt');
    await eva.press('Run from the store');
    await eva.sees('runs from the store, since');
    await eva.sees('in the store; what it writes, on the mover');
    expect(service.platform.named('gate-01-again')).toMatchObject({ running: true, networks: [] });
    await letGuestWrite(service.platform, 'gate-01-again', 'system', [
      { path: '/etc/note', content: Buffer.from('written from the store') },
    ]);
    await eva.press('Copy');
    await eva.sees('runs, and is copied');
    await eva.sees('all of it on fast too');
    expect(await violationsInBothThemes(eva)).toEqual([]);
    await eva.press('Cut over');
    await eva.sees('No machine runs from the store.');
    const machine = service.platform.named('gate-01-again');
    expect(machine.disks.map((d) => d.storage)).toEqual(['fast']);
    expect((await service.files.read(machine, '/etc/note')).toString()).toBe('written from the store');
  });

  itLong('have a restore of them repeated, with evidence of each time', async () => {
    await eva.open('/estate');
    await eva.press('gate-02');
    await eva.sees('programs at rest');
    await eva.press('Restore everything');
    await eva.choose('destination', 'a platform, as new machines');
    await eva.choose('host', 'rock-1');
    await eva.choose('storage', 'cellar');
    await eva.choose('network', 'the network rock');
    await eva.type('put behind the names', '-proof');
    await eva.keys('Tab');
    await eva.sees('gate-02-proof on rock-1');
    await eva.press('Repeat it');
    await eva.sees('What the time before brought is taken away once the new is whole');
    await eva.type('Name of what is repeated', 'The gate comes back');
    await eva.type('what it is to prove', 'the auditors ask');
    await eva.page.click('lx-repeat-form button[type=submit]');
    await eva.sees('Repeated restores');
    await eva.press('Do it now: The gate comes back');
    await eva.sees('was read again and compared');
    await eva.open('/recover/standing');
    await eva.press('Evidence of The gate comes back');
    await eva.sees('1 disk done, what was written was read again and compared');
    expect(service.platform.named('gate-02-proof')).toMatchObject({ running: false, tags: [] });
  });

  it('have two points told from each other', async () => {
    await eva.open('/estate');
    await eva.press('gate-01');
    await eva.press('beside another point');
    await eva.sees('What became of it');
    await eva.sees('CSV');
  });

  it('that failed are named in the morning with their cause, and the button leads to where it is mended', async () => {
    service.signIn.setAccount({ ...keeper, passwordEnds: 1 });
    await eva.open('/policies');
    await eva.press('Machines, nightly');
    await eva.press('Run now');
    await eva.sees('The password or certificate for the platform has expired');
    await eva.open('/watch');
    await eva.sees('were not protected');
    await eva.press('Open the connection');
    await eva.page.waitForFunction(() => /^\/estate\/platforms\/\d+$/.test(location.pathname));
    await eva.sees('has expired');
    service.signIn.setAccount(keeper);
    service.platform.switches = platformFine;
    await eva.type('Password', keeper.password);
    await eva.press('Save the connection');
    await eva.page.waitForFunction(() => location.pathname === '/estate');
    expect((await admin.call('listPlatforms')).rows[0]!.trouble).toBeNull();
  });

  it('leave nothing in the console', () => {
    expect(eva.problems).toEqual([]);
  });
});
