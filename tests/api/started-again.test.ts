import { execFileSync } from 'node:child_process';
import fs from 'node:fs';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { keepRunning, type Kept } from '../../scripts/launcher/keep-running.mjs';
import { rounds } from '../support/by-command';
import { Harness, policyFor, type Client } from '../support/harness';

let h: Harness;
let admin: Client;
let server: Kept;
let mover: Kept;
let source: string;
let pointId: string;

/** A tree that takes a moment to write: many small files, some large ones. */
function plant(folder: string): void {
  for (let d = 0; d < 30; d++) {
    fs.mkdirSync(`${folder}/d${d}`, { recursive: true });
    for (let f = 0; f < 60; f++) fs.writeFileSync(`${folder}/d${d}/f${f}`, `${d} ${f} `.repeat(50 + f));
    fs.writeFileSync(`${folder}/d${d}/large`, Buffer.alloc(1_500_000, d));
  }
}

beforeAll(async () => {
  h = await Harness.start();
  admin = await h.withToken('administrator');
  const set = await h.connect(admin);
  ({ source } = set);
  plant(source);
  const { id } = await admin.call('addPolicy', { body: policyFor([set.workloadId], set.targetId) });
  await admin.ended((await admin.call('runPolicy', { id, body: {} })).runId);
  pointId = (await admin.call('workload', { id: set.workloadId })).pointList[0]!.id;
  await h.killMover('mover-1');
  await h.server.close();
  const config = `${h.folder}/config.json`;
  fs.writeFileSync(config, JSON.stringify(h.config()));
  server = keepRunning('The server', ['dist/node/server.js', config], { ready: true });
  await server.started;
  const args = [
    '--server',
    h.base,
    '--token-file',
    `${h.folder}/mover-token`,
    '--keys',
    `${h.folder}/keys`,
    '--name',
    'kept',
    '--log-level',
    'silent',
  ];
  mover = keepRunning('The mover', ['dist/node/mover.js', ...args]);
});
afterAll(async () => {
  await mover.stop();
  await server.stop();
  await h.startServer();
  await h.stop();
});

/** An answer, waiting while the server is being started again. */
async function patiently<T>(ask: () => Promise<T>): Promise<T> {
  for (let left = 200; ; left--) {
    try {
      return await ask();
    } catch (error) {
      if (!left || (error as { status?: number }).status === 400) throw error;
      await new Promise((resume) => setTimeout(resume, 200));
    }
  }
}

describe('what is killed while something is brought back', () => {
  const each: [string, () => Kept[]][] = [
    ['the mover', () => [mover]],
    ['the server', () => [server]],
    ['both', () => [mover, server]],
  ];
  it.each(each.slice(-rounds(1, 3)))('is started again, and the restore ends by itself, identical: %s', async (name, killed) => {
    const folder = `${h.folder}/back-${name.replace(' ', '-')}`;
    const body = { picks: [{ pointId, path: '' }], destination: { to: 'folder' as const, folder }, reason: 'prove it' };
    const { runId } = await patiently(() => admin.call('startRestore', { body }));
    while (!fs.existsSync(folder) || fs.readdirSync(folder).length < 2) await new Promise((resume) => setTimeout(resume, 20));
    for (const one of killed()) process.kill(one.pid!, 'SIGKILL');
    const run = await patiently(async () => {
      const now = await admin.call('getRun', { id: runId });
      if (now.state === 'waiting' || now.state === 'running') throw new Error('not yet');
      return now;
    });
    expect(run).toMatchObject({ state: 'done', tasks: [{ state: 'done' }] });
    execFileSync('diff', ['-r', source, folder]);
    expect(fs.readdirSync(folder).filter((n) => n.startsWith('.lithodex'))).toEqual([]);
  });
});
