import fs from 'node:fs';
import { setTimeout } from 'node:timers/promises';
import { ApplicationPoint } from '@lithodex/kinds';
import type { ClusterService } from '@lithodex/standins';
import { afterAll, afterEach, beforeAll, describe, expect, it } from 'vitest';
import { rounds } from '../support/by-command';
import { clusterToken, described, fillFolder, startCluster, tideBoard } from '../support/clusters';
import { Harness, policyFor, type Client } from '../support/harness';

let h: Harness;
let admin: Client;
let jetty: ClusterService;
let skerry: ClusterService;
let targetId: string;
let skerryId: number;
let pointId: string;
const host = 'tides.jetty.example';
const reason = 'care';
const rewrites = [{ from: 'basin-fast', to: 'rock-block', path: 'spec.storageClassName' }];

const idOf = async (name: string) => (await admin.call('estate', { query: {} })).workloads.find((w) => w.name === name)!.id;
const take = async (name: string) => admin.ended((await admin.call('protectOnce', { id: await idOf(name), body: { targetId } })).runId);
const newest = async (name: string) => {
  const point = (await admin.call('workload', { id: await idOf(name) })).pointList.at(-1)!;
  return { id: point.id, facts: ApplicationPoint.parse(point.facts) };
};
const move = (namespace: string, more: object = {}) =>
  admin.call('startRestore', {
    body: {
      picks: [{ pointId, path: '' }],
      destination: { to: 'application', systemId: skerryId, namespace, rewrites, ...more },
      reason,
    },
  });
const logOf = async ({ id }: { id: number }) =>
  (await admin.call('runLog', { id, query: {} })).rows.map((r) => `${r.code} ${r.message}`).join('\n');
const ours = (cluster: ClusterService) =>
  cluster.objects
    .everything()
    .filter(
      ({ object: { metadata: m } }) => m.labels?.['lithodex-task'] !== undefined || m.annotations?.['lithodex/filling'] !== undefined,
    );

/** A namespace with a deployment that wants to be brought to rest, and one volume. */
function put(namespace: string, cls: string, notes: Record<string, string> = {}): void {
  jetty.put(
    { apiVersion: 'v1', kind: 'Namespace', metadata: { name: namespace } },
    {
      apiVersion: 'v1',
      kind: 'PersistentVolumeClaim',
      metadata: { name: 'data', namespace },
      spec: { accessModes: ['ReadWriteOnce'], storageClassName: cls, resources: { requests: { storage: '1Gi' } } },
    },
    {
      apiVersion: 'apps/v1',
      kind: 'Deployment',
      metadata: { name: 'logger', namespace },
      spec: {
        replicas: 1,
        template: {
          metadata: { labels: { app: 'logger' }, annotations: notes },
          spec: {
            containers: [{ name: 'main', image: 'logger:1', volumeMounts: [{ name: 'd', mountPath: '/data' }] }],
            volumes: [{ name: 'd', persistentVolumeClaim: { claimName: 'data' } }],
          },
        },
      },
    },
  );
  fs.writeFileSync(`${jetty.placeOfClaim(namespace, 'data')}/log`, 'written all the time\n');
}

beforeAll(async () => {
  h = await Harness.start({ leaseMs: 2500 });
  admin = await h.as('administrator');
  ({ targetId } = await h.connect(admin));
  jetty = await startCluster(`${h.folder}/jetty`, 'jetty-1', ['basin-fast']);
  skerry = await startCluster(`${h.folder}/skerry`, 'skerry-1', ['rock-block']);
  jetty.put(...tideBoard('basin-fast', host));
  fillFolder(jetty.placeOfClaim('tide-board', 'tide-data'));
  const rest = {
    'lithodex/before-snapshot': '["touch", "/data/.rest"]',
    'lithodex/after-snapshot': '["rm", "-f", "/data/.rest"]',
    'lithodex/limit-seconds': '1',
  };
  put('quay', 'basin-fast', rest);
  put('rough-sea', 'rough');
  skerry.put({ apiVersion: 'v1', kind: 'Namespace', metadata: { name: 'mole' } });
  const body = (name: string, cluster: ClusterService) => ({
    name,
    address: { kind: 'application' as const, endpoint: cluster.url },
    secret: clusterToken,
  });
  await admin.call('addSystem', { body: body('jetty', jetty) });
  ({ id: skerryId } = await admin.call('addSystem', { body: body('skerry', skerry) }));
}, 60_000);
afterEach(() => {
  for (const { switches } of [jetty, skerry])
    Object.assign(switches, { hangs: [], fails: [], failSnapshots: false, missingImages: [], throttled: 0, down: false });
});
afterAll(async () => {
  await jetty.stop();
  await skerry.stop();
  await h.stop();
});

describe('an application that is to be brought to rest', () => {
  const live = () => fs.readdirSync(jetty.placeOfClaim('quay', 'data'));
  const stored = async () =>
    (await admin.call('tree', { id: (await newest('quay')).id, query: { path: 'volumes/data' } })).rows.map((r) => r.name);

  it('rests while its volumes are frozen, and goes on after', async () => {
    expect((await take('quay')).state).toBe('done');
    expect(await stored()).toEqual(['.rest', 'log']);
    expect(live()).toEqual(['log']);
    expect((await newest('quay')).facts.quiet).toEqual({ pods: 1, failed: 0 });
  });

  it.each(['fails', 'hangs'] as const)('and whose command %s is taken all the same, which is said, and goes on after', async (how) => {
    jetty.switches[how] = ['touch'];
    const run = await take('quay');
    expect([run.state, await logOf(run)]).toEqual(['remarks', expect.stringContaining('QUIESCE_FAILED')]);
    expect((await newest('quay')).facts.quiet).toEqual({ pods: 0, failed: 1 });
    expect(live()).toEqual(['log']);
    if (how === 'fails') await admin.call('addPolicy', { body: policyFor([await idOf('quay')], targetId) });
    const matters = (await admin.call('watch', { query: {} })).matters.map((m) => m.title);
    expect(matters).toContain('quay was not brought to rest');
  });

  it('goes on after a snapshot that fails, and there is no point of it', async () => {
    const before = (await newest('quay')).id;
    jetty.switches.failSnapshots = true;
    const run = await take('quay');
    expect(run).toMatchObject({ state: 'failed', cause: { code: 'VOLUME_FAILED' } });
    expect(live()).toEqual(['log']);
    expect((await newest('quay')).id).toBe(before);
    expect(ours(jetty)).toEqual([]);
  });

  it('is read while it is used, where its volume can not be frozen, and that is said', async () => {
    const run = await take('rough-sea');
    expect([run.state, await logOf(run)]).toEqual(['remarks', expect.stringContaining('its class can not be frozen')]);
    expect((await newest('rough-sea')).facts.volumes).toMatchObject([{ claim: 'data', frozen: false }]);
  });

  it('waits where the cluster asks for patience, and tells of one that is away', async () => {
    jetty.switches.throttled = 2;
    expect((await take('quay')).state).toBe('done');
    jetty.switches.down = true;
    expect(await take('quay')).toMatchObject({ state: 'failed', cause: { code: 'CLUSTER_AWAY' } });
  });
});

describe('a mover that is killed', () => {
  const whileAsked = async (cluster: ClusterService, what: RegExp, act: () => Promise<{ runId: number }>) => {
    const from = cluster.asked.length;
    const { runId } = await act();
    for (const end = Date.now() + 60_000; !cluster.asked.slice(from).some((a) => what.test(a)) && Date.now() < end;) await setTimeout(5);
    await h.killMover('mover-1');
    h.startMover('mover-1');
    return admin.ended(runId);
  };

  it('in the middle of a run leaves nothing behind once the next has run', async () => {
    for (const what of [/POST .*volumesnapshots/, /EXEC .*command=tar/].slice(0, rounds(1, 2))) {
      const run = await whileAsked(jetty, what, async () =>
        admin.call('protectOnce', { id: await idOf('tide-board'), body: { targetId } }),
      );
      expect(['done', 'failed']).toContain(run.state);
      expect((await take('tide-board')).state).toBe('done');
      expect(ours(jetty)).toEqual([]);
      expect(jetty.volumes.snapshots()).toEqual([]);
    }
    pointId = (await newest('tide-board')).id;
  }, 120_000);

  it('in any phase of a move lets it go on, to the same end', async () => {
    const phases = [
      /EXEC .*command=tar/,
      /POST .*deployments/,
      /POST .*namespaces/,
      /POST .*persistentvolumeclaims/,
      /EXEC .*command=dd/,
      /POST .*ingresses/,
    ];
    for (const [i, what] of phases.slice(0, rounds(2, phases.length)).entries()) {
      const run = await whileAsked(skerry, what, () => move(`moved-${i}`));
      expect([run.state, what.source, await logOf(run)]).toEqual(['done', what.source, expect.anything()]);
      expect(described(skerry.placeOfClaim(`moved-${i}`, 'tide-data'))).toBe(described(jetty.placeOfClaim('tide-board', 'tide-data')));
      expect(
        fs
          .readFileSync(skerry.placeOfClaim(`moved-${i}`, 'tide-disk'))
          .equals(fs.readFileSync(jetty.placeOfClaim('tide-board', 'tide-disk'))),
      ).toBe(true);
      expect(ours(skerry)).toEqual([]);
    }
  }, 240_000);
});

describe('a move', () => {
  it('that does not start says what it waits for, and goes on when it is tried again', async () => {
    skerry.switches.missingImages = ['board:3'];
    const { runId } = await move('late', { patience: 10 });
    const run = await admin.ended(runId);
    expect(run).toMatchObject({ state: 'failed', cause: { code: 'NOT_STARTED' } });
    expect(run.cause!.message).toContain('ImagePullBackOff');
    skerry.switches.missingImages = [];
    expect((await admin.ended((await move('late')).runId)).state).toBe('done');
  });

  it('without a start makes what runs with no pods; into an account without rights it is refused before', async () => {
    expect((await admin.ended((await move('at-rest', { start: false })).runId)).state).toBe('done');
    expect(skerry.objects.of('Pod', 'at-rest')).toEqual([]);
    expect(skerry.objects.get('Deployment', 'at-rest', 'board')!.spec).toMatchObject({ replicas: 0 });
    // without its volumes it starts with empty ones
    expect((await admin.ended((await move('empty', { volumes: false })).runId)).state).toBe('done');
    expect(fs.readdirSync(skerry.placeOfClaim('empty', 'tide-data'))).toEqual([]);
    expect(skerry.objects.of('Pod', 'empty').map((p) => (p.status as { phase: string }).phase)).toEqual(['Running', 'Running']);
    await expect(move('At_Rest')).rejects.toMatchObject({ code: 'INVALID' });
    const clerk = await h.as('clerk');
    await expect(
      clerk.call('planRestore', { body: { picks: [{ pointId, path: '' }], destination: { to: 'original' } } }),
    ).rejects.toMatchObject({ code: 'OUTSIDE_REMIT' });
    await expect(clerk.call('removeVolume', { id: await idOf('quay'), body: { claim: 'data' } })).rejects.toMatchObject({
      code: 'NOT_ALLOWED',
    });
    await expect(clerk.call('switchVolume', { id: await idOf('quay'), body: { from: 'data', to: 'data' } })).rejects.toMatchObject({
      code: 'OUTSIDE_REMIT',
    });
  });
});
