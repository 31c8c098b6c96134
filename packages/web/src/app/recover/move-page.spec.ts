import { describe, expect, it } from 'vitest';
import type { PointFacts } from '@lithodex/kinds';
import { point, workloadDetail } from '../../test/samples';
import { now, open, words } from '../../test/stage';

const facts: PointFacts = {
  kind: 'application',
  namespace: 'tide-board',
  version: 'v1.31.0',
  resources: 10,
  kinds: {},
  volumes: [{ claim: 'tide-data', class: 'fast', mode: 'Filesystem', room: 4e9, items: 2, bytes: 4e9, frozen: true }],
  quiet: { pods: 1, failed: 0 },
  place: { endpoint: 'https://jetty.example', hosts: [], addresses: [], nodes: [], classes: [] },
};
const taken = point(1, now - 3_600_000, { facts });
const workload = workloadDetail([taken], { id: 4, name: 'tide-board', kind: 'application' });
const system = (id: number, name: string, rewrites: object[]) => ({
  id,
  name,
  location: '',
  readBy: null,
  credentialEnds: null,
  readAt: now,
  trouble: null,
  workloads: [],
  address: {
    kind: 'application',
    endpoint: `https://${name}.example`,
    namespaces: [],
    image: 'x',
    domains: [`${name}.example`],
    rewrites,
    authority: null,
  },
});
const rewrite = { kind: 'Ingress', path: '', from: 'jetty.example', to: 'skerry.example' };
const look = {
  trouble: '',
  there: false,
  steps: [
    { step: 'rights', resources: 2, rewritten: 0, exists: 0 },
    { step: 'volumes', resources: 1, rewritten: 1, exists: 0 },
    { step: 'work', resources: 3, rewritten: 0, exists: 0 },
  ],
  volumes: [{ claim: 'tide-data', bytes: 4e9, class: 'rock-block', exists: false, goesTo: 'tide-data' }],
  changes: [
    {
      kind: 'Ingress.networking.k8s.io',
      name: 'board',
      path: ['spec', 'rules', '0', 'host'],
      before: 'tides.jetty.example',
      after: 'tides.skerry.example',
      rewrite: 0,
    },
  ],
  pointing: [{ kind: 'Secret', name: 'mail-relay', path: ['stringData', 'RELAY'], to: 'host', names: 'jetty.example' }],
  unknownKinds: [],
  missingClasses: [],
  missingRights: [],
};
const plan = {
  items: [],
  total: { items: 12, files: 12, bytes: 4e9, picks: 1 },
  readFrom: [],
  copies: [],
  price: null,
  estimateMs: null,
  rate: null,
  rateFrom: '',
  checks: [
    { level: 'fine', code: 'KINDS_KNOWN', text: 'skerry knows every kind.' },
    { level: 'look', code: 'STILL_POINTING', text: 'Secret mail-relay would still lead to the old place.' },
  ],
  existing: { looked: 0, exist: 0, newer: 0, complete: true },
  rescue: null,
  free: null,
};

describe('an application on its way to another cluster', () => {
  it('shows its order, what is rewritten and what still leads back, and starts after an answer', async () => {
    const answers = {
      workload,
      listSystems: {
        rows: [system(workload.source.id, 'jetty', []), system(77, 'skerry', [{ name: 'to the lighthouse', rewrites: [rewrite] }])],
      },
      planRestore: { ...plan, application: look },
      startRestore: { runId: 9 },
    };
    const s = await open('/estate/4/move', { answers });
    await new Promise((resume) => setTimeout(resume, 400));
    await s.settle();
    expect(s.api.last('planRestore')?.body).toMatchObject({
      picks: [{ pointId: taken.id, path: '' }],
      destination: { to: 'application', systemId: 77, namespace: 'tide-board', rewrites: [rewrite], start: true, volumes: true },
      rule: 'leave',
    });
    const way = words(s.one('section'));
    expect(way).toContain('tide-data 4.00 GB');
    expect(way).toContain('on rock-block');
    expect(way).toContain('route board host: tides.jetty.example tides.skerry.example');
    expect(words(s.one('aside'))).toContain('secret mail-relay names jetty.example');
    expect(words(s.one('.start'))).toContain('after 1 answer');
    await s.click('Leave it');
    await s.type('input[aria-label="Why it is brought back"]', 'jetty is flooded');
    await s.click('Start restore');
    expect(s.api.last('startRestore')?.body).toMatchObject({ reason: 'jetty is flooded', trial: false });
    expect(s.url()).toBe('/runs/9');
  });
});
