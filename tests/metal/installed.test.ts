import fs from 'node:fs';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import type { About } from '@lithodex/contract';
import { temporaryFolder } from '../support/nasty-tree';
import { SystemGuest } from './system-guest';

const state = '/var/lib/lithodex';
const address = 'https://localhost:9500';

/** An installation that systemd starts, on a machine of its own. */
describe('an installation', () => {
  const folder = temporaryFolder('installed');
  const project = process.cwd();
  let guest: SystemGuest;
  let token = '';

  const asked = (path: string, more = '') =>
    guest.run(`curl -s --fail-with-body --cacert ${state}/server/tls/authority.pem ${more} ${address}/api/v1${path}`);
  const told = (path: string) => asked(path, `-H 'authorization: Bearer ${token}'`);
  const about = async () => JSON.parse(await told('/about')) as About;
  const answers = async () => {
    for (const until = Date.now() + 60_000; ; await new Promise((resume) => setTimeout(resume, 500)))
      try {
        if ((await about()).movers.length) return;
      } catch (error) {
        if (Date.now() > until) throw error;
      }
  };
  /** A copy of the program, as one fetches a newer version. */
  const newer = (name: string, change: string) =>
    guest.run(
      `rm -rf /tmp/${name}; mkdir /tmp/${name}; cd ${project}; cp -a lithodex scripts dist packages demo bench package.json package-lock.json README.md /tmp/${name}; ` +
        `ln -s ${project}/node_modules /tmp/${name}/node_modules; cd /tmp/${name}; ${change}`,
    );

  beforeAll(async () => {
    guest = await SystemGuest.start(folder);
  });
  afterAll(async () => {
    await guest.stop();
    fs.rmSync(folder, { recursive: true, force: true });
  });

  it('is made by one command, runs under an account of its own, and lets its first administrator in', async () => {
    const said = await guest.run(`cd ${project} && ./lithodex install --name localhost --port 9500`);
    const code = /begin\?code=(\S+)/.exec(said)![1]!;
    expect(await guest.run('ps -o user= -C node -o args= | grep dist/node/server.js')).toMatch(/^lithodex /);
    expect(await guest.run(`stat -c '%U %a' ${state}/server/config.json ${state}/database ${state}/mover`)).toBe(
      'lithodex 600\nmysql 700\nroot 700\n',
    );
    const first = { code, name: 'eva.vind', display: 'Eva Vind', password: 'some unusual lanterns', zone: 'Europe/Oslo' };
    const made = await asked('/first', `-H 'content-type: application/json' -d '${JSON.stringify(first)}'`);
    expect(JSON.parse(made)).toMatchObject({ step: 'enrol' });
    token = (await guest.run(`cd ${project} && ./lithodex token --role administrator --name test --state ${state}`)).trim();
    await answers();
    expect(await about()).toMatchObject({ zone: 'Europe/Oslo', encrypted: true });
  });

  it('goes on after its parts were killed, and after the machine is started again', async () => {
    await guest.run('kill -9 $(pgrep -x mariadbd)');
    await answers();
    await guest.run('kill -9 $(systemctl show -P MainPID lithodex-server); kill -9 $(systemctl show -P MainPID lithodex-mover)');
    await answers();
    await guest.run('systemctl stop lithodex.target lithodex-mover lithodex-server lithodex-database; systemctl start lithodex.target');
    await answers();
    expect(JSON.parse(await told('/people'))).toMatchObject({ rows: [{ name: 'eva.vind' }] });
  });

  it('is brought to another version with its database written down before, and back to the one before where that does not start', async () => {
    await newer('version-b', `sed -i 's/"0.1.0"/"9.9.9"/' package.json dist/node/server.js`);
    expect(await guest.run('cd /tmp/version-b && ./lithodex upgrade')).toContain('is of this version now');
    await answers();
    expect((await about()).version).toBe('9.9.9');
    await newer('version-c', `echo 'throw new Error("broken on purpose")' > dist/node/server.js`);
    await expect(guest.run('cd /tmp/version-c && ./lithodex upgrade')).rejects.toThrow(/The upgrade was undone/);
    await answers();
    expect((await about()).version).toBe('9.9.9');
    expect(JSON.parse(await told('/people'))).toMatchObject({ rows: [{ name: 'eva.vind' }] });
    expect(await guest.run(`ls ${state}/dumps | wc -l`)).toBe('2\n');
  });

  it('is taken away with nothing left but its state, and goes on from that', async () => {
    await guest.run(`cd ${project} && ./lithodex remove`);
    expect(
      await guest.run(
        'ls /etc/systemd/system | grep -c lithodex || true; ls -d /opt/lithodex* 2>/dev/null | wc -l; grep -c lithodex /etc/passwd || true',
      ),
    ).toBe('0\n0\n0\n');
    expect(await guest.run('pgrep -fc "dist/node/(server|mover)" || true')).toBe('0\n');
    await guest.run(`cd ${project} && ./lithodex install`);
    await answers();
    expect(JSON.parse(await told('/people'))).toMatchObject({ rows: [{ name: 'eva.vind' }] });
    await guest.run(`cd ${project} && ./lithodex remove --with-state`);
    expect(await guest.run(`ls -d ${state} 2>/dev/null | wc -l`)).toBe('0\n');
  });
});
