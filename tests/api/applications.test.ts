import fs from 'node:fs';
import type { BodyInput } from '@lithodex/contract';
import { ApplicationPoint, type ApplicationAddress } from '@lithodex/kinds';
import type { ClusterService } from '@lithodex/standins';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { askRoute, clusterToken, described, fillFolder, startCluster, tideBoard } from '../support/clusters';
import { Harness, type Client } from '../support/harness';

let h: Harness;
let admin: Client;
let jetty: ClusterService;
let skerry: ClusterService;
let targetId: string;
let skerryId: number;
let pointId: string;
const host = 'tides.jetty.example';
const reason = 'the application moves';
const rewrites = [
  { from: 'jetty.example', to: 'skerry.example' },
  { from: 'basin-fast', to: 'rock-block', path: 'spec.storageClassName' },
  { kind: 'Deployment', path: 'spec.replicas', to: '1' },
  { from: 'jetty', to: 'skerry', path: 'metadata.labels.**' },
];

const body = (
  name: string,
  cluster: ClusterService,
  more: Partial<ApplicationAddress> = {},
  secret: string | null = clusterToken,
): BodyInput<'addSystem'> => ({
  name,
  address: { kind: 'application', endpoint: cluster.url, domains: [`${name}.example`], ...more },
  secret,
});
const idOf = async (name: string) => (await admin.call('estate', { query: {} })).workloads.find((w) => w.name === name)!.id;
const take = async (name = 'tide-board') => {
  const run = await admin.ended((await admin.call('protectOnce', { id: await idOf(name), body: { targetId } })).runId);
  if (run.state === 'failed') throw new Error(`${run.cause?.message}\n${await logOf(run)}`);
  const point = (await admin.call('workload', { id: await idOf(name) })).pointList.at(-1)!;
  return { run, point, facts: ApplicationPoint.parse(point.facts) };
};
const restore = async (
  paths: string[],
  destination: BodyInput<'startRestore'>['destination'],
  more: Partial<BodyInput<'startRestore'>> = {},
) =>
  admin.ended(
    (await admin.call('startRestore', { body: { picks: paths.map((path) => ({ pointId, path })), destination, reason, ...more } })).runId,
  );
const logOf = async ({ id }: { id: number }) =>
  (await admin.call('runLog', { id, query: {} })).rows.map((r) => `${r.code} ${r.message}`).join('\n');
const dataOf = (cluster: ClusterService, claim = 'tide-data', namespace = 'tide-board') => cluster.placeOfClaim(namespace, claim);
const helpers = (cluster: ClusterService) =>
  cluster.objects.everything().filter(({ object }) => object.metadata.labels?.['lithodex-task'] !== undefined);

beforeAll(async () => {
  h = await Harness.start({ leaseMs: 4000 });
  admin = await h.as('administrator');
  ({ targetId } = await h.connect(admin));
  jetty = await startCluster(
    `${h.folder}/jetty`,
    'jetty-1',
    ['basin-fast'],
    [{ token: 'poor', rules: [{ verbs: ['get', 'list'], resources: ['namespaces', 'configmaps'] }] }],
  );
  skerry = await startCluster(`${h.folder}/skerry`, 'skerry-1', ['rock-block']);
  jetty.put(...tideBoard('basin-fast', host));
  fillFolder(dataOf(jetty));
  fs.writeFileSync(dataOf(jetty, 'tide-disk'), Buffer.alloc(8 << 20, 'tide'));
}, 60_000);
afterAll(async () => {
  await jetty.stop();
  await skerry.stop();
  await h.stop();
});

describe('a cluster', () => {
  it('is tested right by right, and its namespaces are found with their labels as tags', async () => {
    const good = await admin.call('testSystem', { body: { body: body('jetty', jetty) } });
    expect(good).toMatchObject({ ok: true, found: 1 });
    expect(good.needs.filter((n) => n.missing)).toEqual([]);
    expect(good.remarks.join(' ')).toContain('rough can not be frozen');
    const poor = await admin.call('testSystem', { body: { body: body('jetty', jetty, {}, 'poor') } });
    expect(poor.needs.filter((n) => n.missing).map((n) => n.right)).toEqual(expect.arrayContaining(['list secrets', 'create pods/exec']));
    await expect(admin.call('addSystem', { body: body('jetty', jetty, {}, 'stranger') })).rejects.toMatchObject({ code: 'MOVER_FAILED' });
    const { id } = await admin.call('addSystem', { body: body('jetty', jetty) });
    skerry.put({ apiVersion: 'v1', kind: 'Namespace', metadata: { name: 'quay' } });
    ({ id: skerryId } = await admin.call('addSystem', { body: body('skerry', skerry) }));
    const found = (await admin.call('estate', { query: {} })).workloads.find((w) => w.name === 'tide-board')!;
    expect(found).toMatchObject({ kind: 'application', facts: { claims: 2, unfrozen: 0, trouble: '' } });
    const elsewhere = admin.call('changeSystem', { id, body: body('jetty', jetty, { endpoint: 'http://127.0.0.1:9' }, null) });
    await expect(elsewhere).rejects.toMatchObject({ code: 'INVALID' });
    expect(JSON.stringify([await admin.call('listSystems'), await admin.call('audit', { query: {} })])).not.toContain(clusterToken);
  });
});

describe('an application', () => {
  it('is taken with its resources as text, its secrets sealed, and its volumes frozen', async () => {
    const { run, point, facts } = await take();
    expect([run.state, await logOf(run)]).toEqual(['done', expect.not.stringContaining('warning')]);
    pointId = point.id;
    expect(facts).toMatchObject({
      namespace: 'tide-board',
      version: 'v1.31.0',
      place: { nodes: ['jetty-1'], classes: ['basin-fast', 'rough'] },
    });
    expect(facts.volumes).toMatchObject([
      { claim: 'tide-data', class: 'basin-fast', mode: 'Filesystem', frozen: true },
      { claim: 'tide-disk', mode: 'Block', bytes: 8 << 20, frozen: true },
    ]);
    expect(facts.kinds).toMatchObject({ 'Deployment.apps': 1, Secret: 1, 'Ingress.networking.k8s.io': 1, Namespace: 1 });
    expect(facts.kinds['Pod']).toBeUndefined();
    expect(helpers(jetty)).toEqual([]);
    expect(jetty.volumes.snapshots()).toEqual([]);
  });

  it('shows no value of a secret: neither in its text, nor in a preview, nor in an archive of all of it', async () => {
    const path = 'resources/Secret/mail-relay.yaml';
    const preview = await admin.call('preview', { id: pointId, query: { path } });
    expect(JSON.stringify(preview)).toContain('(sealed)');
    const { runId } = await admin.call('startRestore', {
      body: { picks: [{ pointId, path: '' }], destination: { to: 'folder', folder: `${h.folder}/out`, keepPath: true }, reason },
    });
    expect((await admin.ended(runId)).state).toBe('done');
    const pair = await admin.call('resourcePair', { id: pointId, query: { path } });
    expect(pair).toMatchObject({ then: pair.now });
    const texts = [preview, pair, fs.readFileSync(`${h.folder}/out/${path}`, 'utf8'), await logOf({ id: runId })]
      .map((t) => JSON.stringify(t))
      .join();
    for (const value of ['a light in the fog', Buffer.from('a light in the fog').toString('base64')]) expect(texts).not.toContain(value);
    expect(described(`${h.folder}/out/volumes/tide-data`)).toBe(described(dataOf(jetty)));
  });

  it('is looked at before it moves: what changes, and what would still lead to the old place', async () => {
    const picks = [{ pointId, path: '' }];
    const place = { to: 'application' as const, systemId: skerryId, namespace: 'tide-board' };
    const bare = (await admin.call('planRestore', { body: { picks, destination: place } })).application!;
    expect(bare).toMatchObject({
      trouble: '',
      there: false,
      unknownKinds: [],
      missingClasses: ['basin-fast'],
      missingRights: [],
      changes: [],
    });
    const pointing = bare.pointing.map((p) => `${p.kind} ${p.name} ${p.to} ${p.names}`);
    expect(pointing).toEqual(
      expect.arrayContaining([
        'ConfigMap board-settings host tides.jetty.example',
        'Secret mail-relay host jetty.example',
        'PersistentVolumeClaim tide-data class basin-fast',
        'Ingress.networking.k8s.io board host tides.jetty.example',
      ]),
    );
    const looked = (await admin.call('planRestore', { body: { picks, destination: { ...place, rewrites } } })).application!;
    expect(looked).toMatchObject({ missingClasses: [], pointing: [] });
    const changes = looked.changes.map((c) => `${c.name} ${c.path.join('.')}: ${c.before} > ${c.after}`);
    expect(changes).toEqual(
      expect.arrayContaining([
        'board-settings data.PUBLIC_URL: https://tides.jetty.example/ > https://tides.skerry.example/',
        'tide-data spec.storageClassName: basin-fast > rock-block',
        'board spec.replicas: 2 > 1',
        'mail-relay stringData.RELAY: (sealed) > (sealed)',
      ]),
    );
    const plan = await admin.call('planRestore', { body: { picks, destination: place } });
    const clerk = await h.as('clerk');
    await expect(clerk.call('planRestore', { body: { picks, destination: place } })).rejects.toMatchObject({ code: 'NOT_ALLOWED' });
    expect(plan.checks.filter((c) => c.level === 'stop').map((c) => c.code)).toEqual(['NO_CLASS']);
    await expect(admin.call('startRestore', { body: { picks, destination: place, reason } })).rejects.toMatchObject({
      details: { check: 'NO_CLASS' },
    });
  });

  it('goes to another cluster, rewritten, with its volumes first, and is reached there with its data', async () => {
    const trial = await restore([''], { to: 'application', systemId: skerryId, namespace: 'tide-board', rewrites }, { trial: true });
    expect(trial.state).toBe('done');
    expect(skerry.objects.get('Namespace', '', 'tide-board')).toBeUndefined();
    const run = await restore([''], { to: 'application', systemId: skerryId, namespace: 'tide-board', rewrites });
    expect([run.state, await logOf(run)]).toEqual(['done', expect.stringContaining('tides.skerry.example answers')]);
    expect(described(dataOf(skerry))).toBe(described(dataOf(jetty)));
    expect(fs.readFileSync(dataOf(skerry, 'tide-disk')).equals(fs.readFileSync(dataOf(jetty, 'tide-disk')))).toBe(true);
    expect(await askRoute(skerry, 'tides.skerry.example', '/index.html')).toEqual({ status: 200, text: '<h1>Tides</h1>' });
    const settings = (await askRoute(skerry, 'tides.skerry.example', '/settings')).text;
    expect(JSON.parse(settings)).toMatchObject({
      PUBLIC_URL: 'https://tides.skerry.example/',
      RELAY: 'relay.skerry.example:25',
      PASSWORD: 'a light in the fog',
    });
    const all = JSON.stringify(skerry.objects.everything().map((o) => o.object));
    expect(all).not.toMatch(/jetty|basin-fast/);
    expect(helpers(skerry)).toEqual([]);
    expect(skerry.objects.get('Namespace', '', 'tide-board')!.metadata.labels).toMatchObject({ team: 'pilots' });
    // once more: all of it is there
    const again = await restore([''], { to: 'application', systemId: skerryId, namespace: 'tide-board', rewrites });
    expect(await logOf(again)).toContain('0 parts');
  });

  it('has a secret and settings made exactly what they were, what came since gone', async () => {
    const base64 = (text: string) => Buffer.from(text).toString('base64');
    const secret = () => jetty.objects.get('Secret', 'tide-board', 'mail-relay')!['data'] as Record<string, string>;
    const before = secret();
    jetty.put({
      ...jetty.objects.get('Secret', 'tide-board', 'mail-relay')!,
      data: { RELAY: base64('relay of a stranger'), ADDED: base64('since then') },
    });
    const run = await restore(['resources/Secret/mail-relay.yaml'], { to: 'original' }, { rule: 'replace' });
    expect(run.state).toBe('done');
    expect(secret()).toEqual(before);
  });

  it('comes back in place: volumes beside those that are used, switched to, and back again', async () => {
    const before = described(dataOf(jetty));
    fs.rmSync(`${dataOf(jetty)}/stations`, { recursive: true });
    fs.writeFileSync(`${dataOf(jetty)}/index.html`, 'nothing');
    const damaged = described(dataOf(jetty));
    const run = await restore(['volumes/tide-data'], { to: 'original' }, { rule: 'replace' });
    expect([run.state, await logOf(run)]).toEqual(['done', expect.anything()]);
    const claims = jetty.objects.of('PersistentVolumeClaim', 'tide-board').map((c) => c.metadata.name);
    const beside = claims.find((c) => /^tide-data-\d{8}-\d{4}$/.test(c))!;
    expect(claims.sort()).toEqual(['tide-data', beside, 'tide-disk'].sort());
    expect(described(dataOf(jetty, beside))).toBe(before);
    expect(described(dataOf(jetty))).toBe(damaged);
    expect((await askRoute(jetty, host, '/index.html')).text).toBe('<h1>Tides</h1>');
    const facts = async () => (await admin.call('estate', { query: {} })).workloads.find((w) => w.name === 'tide-board')!.facts;
    const jettyId = (await admin.call('listSystems')).rows.find((s) => s.name === 'jetty')!.id;
    await admin.call('readSystem', { id: jettyId });
    expect(await facts()).toMatchObject({ claims: 2, unused: [{ claim: 'tide-data', now: beside }] });
    // the new volume goes on with the series of the old one
    const next = await take();
    expect(next.facts.volumes.map((v) => v.claim).sort()).toEqual([beside, 'tide-disk'].sort());
    expect((await admin.call('tree', { id: next.point.id, query: { path: 'volumes' } })).rows.map((r) => r.name)).toEqual([
      'tide-data',
      'tide-disk.img',
    ]);
    const id = await idOf('tide-board');
    await admin.call('switchVolume', { id, body: { from: beside, to: 'tide-data' } });
    expect((await askRoute(jetty, host, '/index.html')).text).toBe('nothing');
    await expect(admin.call('removeVolume', { id, body: { claim: 'tide-data' } })).rejects.toMatchObject({ code: 'MOVER_FAILED' });
    await admin.call('removeVolume', { id, body: { claim: beside } });
    expect(jetty.objects.get('PersistentVolumeClaim', 'tide-board', beside)).toBeUndefined();
    expect(await facts()).toMatchObject({ unused: [] });
  });
});
