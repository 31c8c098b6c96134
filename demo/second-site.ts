import { spawn } from 'node:child_process';
import fs from 'node:fs';
import type { Answered } from '@lithodex/contract';
import { appendAudit, hashPassword, issueToken, readConfig, runServer, type RunningServer } from '@lithodex/server';
import { password, people } from './harbour/story';
import { StoryPeople } from './story-people';

const passphrase = 'three lanterns on the mole';
const mover = 'lighthouse-mover';

/** What the bucket of the store that is followed is opened with. */
interface Bucket {
  readonly port: number;
  readonly accessKey: string;
  readonly secretKey: string;
  readonly buckets: readonly [{ readonly name: string }];
}

/** Waits until no task is open. */
async function quiet({ deps }: RunningServer): Promise<void> {
  while (await deps.db('task').whereIn('state', ['waiting', 'running']).first('id')) await new Promise((resume) => setTimeout(resume, 100));
}

/** Makes the installation at the lighthouse station: it follows the store that lies there, and brings the office back whenever there is a newer point. */
async function settleIn(server: RunningServer, state: string, first: string, bucket: Bucket): Promise<void> {
  const { deps } = server;
  const base = `http://127.0.0.1:${server.port}`;
  const now = deps.clock.now();
  await deps.db.transaction((trx) =>
    appendAudit(trx, now, { actor: 'setup', action: 'installation.start', object: 'Kelmar lighthouse station' }),
  );
  const settings = JSON.stringify({ secondFor: [], idleMinutes: 240 });
  await deps.db('setting').where({ name: 'sign-in' }).update({ value: settings });
  const hash = await hashPassword(password);
  for (const person of people.filter((p) => p.role !== 'clerk'))
    await deps.db('person').insert({ ...person, password_hash: hash, created_at: now });
  const token = `${state}/mover-token`;
  fs.writeFileSync(token, await issueToken(deps, mover, 'mover', 'setup'), { mode: 0o600 });
  const args = ['--server', base, '--token-file', token, '--keys', `${state}/keys`, '--name', mover, '--log-level', 'warn'];
  const running = spawn(process.execPath, ['dist/node/mover.js', ...args], { stdio: 'inherit' });
  try {
    while (!deps.movers.present().length) await new Promise((resume) => setTimeout(resume, 50));
    const [there, here] = [new StoryPeople(`${first}/api/v1`), new StoryPeople(`${base}/api/v1`)];
    const { rows } = await there.get<Answered<'listTargets'>>('eva.vind', 'listTargets');
    const { content: envelope } = await there.call('eva.vind', 'envelope', rows.find((t) => t.name === 'north-store')!.id, { passphrase });
    const { accessKey, secretKey } = bucket;
    const endpoint = `http://127.0.0.1:${bucket.port}`;
    const place = { kind: 'bucket' as const, prefix: 'lithodex/', endpoint, bucket: bucket.buckets[0].name, accessKey, secretKey };
    const location = 'Lighthouse station';
    await here.call('eva.vind', 'followTarget', { name: 'north-store', place, location, envelope, passphrase, every: 15 });
    await quiet(server);
    const { workloads } = await here.get<Answered<'estate'>>('eva.vind', 'estate', '', '?show=points');
    const office = workloads.find((w) => w.name === 'harbour-office') ?? workloads[0];
    if (!office) throw new Error('north-store holds no point.');
    await here.call('eva.vind', 'addStanding', {
      name: 'The office, ready at the lighthouse',
      workloads: [office.id],
      schedule: { every: 'point' },
      destination: { to: 'folder', folder: `${state}/ready` },
      reason: 'the office can go on from the lighthouse station the same day',
    });
    while (!(await deps.db('run').whereNotNull('standing_no').first('id'))) await new Promise((resume) => setTimeout(resume, 100));
    await quiet(server);
    await here.call('eva.vind', 'hideFirstSteps', { hidden: true });
  } finally {
    running.kill();
  }
}

const [, , configFile, state, first, standinFile] = process.argv;
if (!configFile || !state || !first || !standinFile) throw new Error('usage: second-site CONFIG STATE ADDRESS STANDINS');
const { bucket } = JSON.parse(fs.readFileSync(standinFile, 'utf8')) as { bucket: Bucket };
const server = await runServer({ ...readConfig(configFile), port: 0, schedulerMs: 500 });
try {
  await settleIn(server, state, first, bucket);
} finally {
  await server.close();
}
process.exit(0);
