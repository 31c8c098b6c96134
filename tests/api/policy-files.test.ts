import fs from 'node:fs';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { Harness, policyFor, type Client } from '../support/harness';

let h: Harness;
let admin: Client;
let workloadId: number;
let targetId: string;
let first: number;

beforeAll(async () => {
  h = await Harness.start({ schedulerMs: 0 });
  admin = await h.as('administrator');
  ({ workloadId, targetId } = await h.connect(admin, 'quay: 1 # "north"'));
  first = (await admin.call('addPolicy', { body: policyFor([workloadId], targetId, { name: 'First' }) })).id;
});
afterAll(() => h.stop());

const yamlOf = async (id: number) => (await admin.fetch('policyFile', { id })).text();
const read = (text: string) => admin.call('readPolicy', { body: { text } });

describe('policies as files', () => {
  it('say the same when they are read again', async () => {
    fs.mkdirSync(`${h.folder}/second`);
    const second = await admin.call('addTarget', {
      body: { name: 'north: disk', place: { kind: 'folder', folder: `${h.folder}/second` } },
    });
    const { id } = await admin.call('addPolicy', {
      body: policyFor([workloadId], targetId, {
        name: 'Nights - "of" the quay',
        tags: ['room: north', 'on', '007'],
        rule: 'source quay* and not tag test',
        schedule: { every: 'after', policyId: first },
        keep: { by: 'days', days: 21, longTerm: { months: 12 } },
        copies: [{ targetId: second.id, rhythm: 'week', keep: { by: 'points', points: 8 } }],
        exclude: ['*.tmp', '# not a comment'],
        window: { from: '22:00', to: '06:00' },
        closed: ['12-25'],
      }),
    });
    const text = await yamlOf(id);
    expect(text).toMatch(/^format: lithodex policy 2\nname: /);
    expect(text).not.toMatch(new RegExp(`${targetId}|policyId`));
    expect((await read(text)).body).toEqual((await admin.call('getPolicy', { id })).body);
  });

  it('read what people leave out as the screen does', async () => {
    const text = [
      'format: lithodex policy 2',
      'name: Short',
      'workloads: []',
      'tags: [cranes]',
      'zone: Europe/Oslo',
      'rules:',
      '  - kind: incremental',
      '    schedule: { every: day, at: "22:00" }',
      '    keep: { by: days, days: 7 }',
      '    target: quay-disk',
      '  - kind: full',
      '    schedule: { every: week, days: [7], at: "22:00" }',
      '    keep: { by: days, days: 90 }',
      '    target: quay-disk',
    ].join('\n');
    const { body } = await read(text);
    expect(body).toMatchObject({ name: 'Short', catchUp: true, changeLimit: 40 });
    expect(body.rules.map((r) => [r.no, r.kind, r.targetId, r.copies])).toEqual([
      [1, 'incremental', targetId, []],
      [2, 'full', targetId, []],
    ]);
    await admin.call('addPolicy', { body });
  });

  const good = async () => yamlOf(first);
  it.each([
    ['no YAML', () => Promise.resolve('name: [unclosed'), /no YAML/],
    ['another format', () => Promise.resolve('format: something else\n'), /format: lithodex policy 2/],
    ['a list', () => Promise.resolve('- a\n- b\n'), /format/],
    ['an unknown target', async () => (await good()).replace('target: quay-disk', 'target: nowhere'), /no target "nowhere"/],
    ['an unknown workload', async () => (await good()).replace(/ {4}name: .*/, '    name: x'), /no single workload "x"/],
    ['an unknown word', async () => `${await good()}secret: x\n`, /secret/],
    ['a wrong value', async () => (await good()).replace('days: 14', 'days: 0'), /rules\.0\.keep\.days/],
    ['a rule that can not be read', async () => (await good()).replace('rule: ""', 'rule: "tag a and ("'), /./],
    [
      'aliases that grow',
      () =>
        Promise.resolve(
          `format: lithodex policy 2\na: &a [1,1,1,1]\nb: &b [*a,*a,*a,*a,*a,*a]\nc: &c [*b,*b,*b,*b,*b,*b]\nd: [*c,*c,*c,*c,*c,*c]\n`,
        ),
      /./,
    ],
  ])('refuse %s, and change nothing', async (_what, make, words) => {
    const before = await admin.call('listPolicies');
    await expect(read(await make())).rejects.toMatchObject({ code: 'INVALID', message: expect.stringMatching(words) });
    expect(await admin.call('listPolicies')).toEqual(before);
  });
});
