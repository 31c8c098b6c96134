import fc from 'fast-check';
import { openApiDocument, routes, type Route, type RouteName } from '@lithodex/contract';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { valuesOf } from '../support/fuzz';
import { Harness, policyFor, type Client } from '../support/harness';

type Json = Record<string, unknown>;
interface Operation {
  readonly operationId: RouteName;
  readonly parameters: readonly { name: string; in: 'path' | 'query'; schema: Json }[];
  readonly requestBody?: { content: { 'application/json': { schema: Json } } };
}

/** Bodies sent to every route; a long look has more: `./lithodex test --fuzz=1000`. */
const bodies = Number(process.env['LITHODEX_FUZZ'] ?? 6);
const document = openApiDocument() as { paths: Record<string, Record<string, Operation>> };
/** What asks a mover comes last: for some time after one was heard of it is waited for. */
const asksMovers = /^\/(scan-rules|sources|platforms|systems|targets|points|shares|workloads|restores|desk|standing)/;
const operations = Object.entries(document.paths)
  .sort(([a], [b]) => Number(asksMovers.test(a)) - Number(asksMovers.test(b)))
  .flatMap(([, path]) => Object.values(path));
/** What waits for somebody, or ends what the test stands on. */
const spared: readonly RouteName[] = [
  'events',
  'claim',
  'questions',
  'stream',
  'download',
  'signOut',
  'removePerson',
  'removeToken',
  'removeMoverToken',
  'rotateToken',
];

let h: Harness;
let admin: Client;
let mover: Client;
const ids: Record<string, unknown[]> = {};

beforeAll(async () => {
  h = await Harness.start({ movers: 1, leaseMs: 600_000, claimWaitMs: 0 });
  [admin, mover] = [await h.withToken('administrator'), await h.withToken('mover')];
  const { workloadId, targetId } = await h.connect(admin);
  const { id } = await admin.call('addPolicy', { body: policyFor([workloadId], targetId) });
  const { runId } = await admin.call('runPolicy', { id, body: {} });
  await admin.ended(runId);
  await h.killMover('mover-1');
  // it does not come back, so that nothing waits for it
  const { db, movers } = h.server.deps;
  for (const token of await db('api_token').where({ role: 'mover' }).select<{ id: number }[]>('id')) movers.forget(token.id);
  const { pointList } = await admin.call('workload', { id: workloadId });
  const tasks = await h.server.deps.db('task').select<{ id: string }[]>('id');
  ids['number'] = [1, workloadId, id, runId, 4_294_967_295];
  ids['text'] = [targetId, pointList[0]!.id, ...tasks.slice(0, 2).map((t) => t.id), 'mover-1'];
});
afterAll(() => h.stop());

/** What is no text may have none of its own. */
const textOf = (id: unknown): string => (typeof id === 'string' ? id : (JSON.stringify(id) ?? ''));

async function send(name: RouteName, id: unknown, query: object, body: unknown): Promise<{ status: number; text: string }> {
  const route = routes[name] as Route;
  const answer = await (route.access === 'mover' ? mover : admin).fetch(name, {
    ...(route.path.includes(':id') && { id: textOf(id).toWellFormed() || '1' }),
    query,
    ...(route.method !== 'get' && body !== undefined && { body }),
  });
  return { status: answer.status, text: await answer.text() };
}

describe('every route of the document', () => {
  let sent = 0;
  it.each(operations.filter((o) => !spared.includes(o.operationId)).map((o) => [o.operationId, o] as const))(
    '%s answers whatever it is sent without failing',
    async (name, { parameters, requestBody }) => {
      const known = fc.constantFrom(...(ids['number'] ?? [1]), ...(ids['text'] ?? ['x']));
      const own = parameters.find((p) => p.in === 'path');
      const id = own ? fc.oneof({ weight: 2, arbitrary: known }, { weight: 1, arbitrary: valuesOf(own.schema) }) : fc.constant(1);
      const query = fc.record(Object.fromEntries(parameters.filter((p) => p.in === 'query').map((p) => [p.name, valuesOf(p.schema)])), {
        requiredKeys: [],
      });
      const schema = requestBody?.content['application/json'].schema;
      await fc.assert(
        fc.asyncProperty(id, query, schema ? valuesOf(schema) : fc.constant(undefined), async (i, q, body) => {
          const { status, text } = await send(name, i, q, body);
          sent++;
          // a mover is away, messages go nowhere, and no organisation answers: these say so
          const away = [502, 503].includes(status) && /MOVER_|NOTICE_FAILED|ORGANISATION_FAILED/.test(text);
          expect(away || status < 500, `${status} ${text.slice(0, 300)} for ${JSON.stringify({ i, q, body }).slice(0, 1500)}`).toBe(true);
          if (status >= 400 && status !== 404) expect((JSON.parse(text) as { code: string }).code).toMatch(/^[A-Z_]+$/);
        }),
        { numRuns: bodies, endOnFailure: true },
      );
    },
  );

  it('were sent something, and the trail is whole afterwards', async () => {
    expect(sent).toBeGreaterThan(operations.length * bodies * 0.7);
    expect(await admin.call('checkAudit')).toMatchObject({ intact: true });
  });
});

describe('the same name taken by many at once', () => {
  it('is had by one, and the others are told', async () => {
    const { db } = h.server.deps;
    const { id: workloadId } = await db('workload').first<{ id: number }>('id');
    const { id: targetId } = await db('target').first<{ id: string }>('id');
    const attempts: [RouteName, unknown][] = [
      ['addPerson', { name: 'twice.over', display: 'Twice', role: 'auditor', password: 'a long enough password' }],
      ['addPolicy', policyFor([workloadId], targetId, { name: 'Twice' })],
      ['addNotice', { name: 'Twice', about: { what: 'digest', at: '07:00' }, way: { by: 'mail', to: ['a@b.example'] } }],
    ];
    for (const [name, body] of attempts) {
      const answers = await Promise.all(Array.from({ length: 8 }, () => admin.fetch(name, { body })));
      const statuses = answers.map((a) => a.status).sort();
      const others = await Promise.all(answers.filter((a) => ![200, 409].includes(a.status)).map((a) => a.text()));
      expect([name, others, statuses]).toEqual([name, [], [200, ...Array<number>(7).fill(409)]]);
    }
  });
});
