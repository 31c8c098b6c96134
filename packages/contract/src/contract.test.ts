import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { apiErrors, openApiDocument, PolicyBody, RestoreBody, routes, RunsQuery, SourceBody, withRules, type Route } from './index';

const rule = {
  no: 1,
  kind: 'incremental',
  schedule: { every: 'day', at: '22:00' },
  keep: { by: 'days', days: 14 },
  targetId: '00000000-0000-4000-8000-000000000000',
};
const policy = {
  name: 'Nightly',
  workloads: [1],
  tags: [],
  zone: 'Europe/Oslo',
  rules: [rule],
};
const list = Object.entries<Route>(routes);
/** What asks by a body, and what only concerns how one signs in oneself. */
const asking = ['findPaths', 'findTraces', 'consequences', 'policyMeasures', 'strikeOut'];
const ofOneself = ['signOut', 'confirm', 'changePassword', 'dropCode', 'newRecoveryCodes', 'dropPasskey', 'endOtherSessions'];

describe('the route table', () => {
  it('has no two routes at one place, and ids wherever the path has one', () => {
    const places = list.map(([, r]) => `${r.method} ${r.path}`);
    expect(new Set(places).size).toBe(places.length);
    for (const [name, r] of list) expect([name, r.path.includes(':id')]).toEqual([name, r.params !== undefined]);
  });

  it('lets auditors read but never change anything', () => {
    for (const [name, r] of list)
      if (Array.isArray(r.access) && r.access.includes('auditor'))
        expect([name, r.method === 'get' || [...asking, ...ofOneself].includes(name)]).toEqual([name, true]);
  });

  it('gives every answer that is not raw a schema, or none on purpose', () => {
    for (const [name, r] of list) expect([name, r.raw === true || r.response !== undefined]).toEqual([name, true]);
  });

  it('becomes an OpenAPI document without holes', () => {
    const text = JSON.stringify(openApiDocument());
    expect(text).not.toContain('undefined');
    expect(Object.keys((JSON.parse(text) as { paths: object }).paths).every((p) => !p.includes(':'))).toBe(true);
  });
});

describe('errors', () => {
  it('have a fitting status and say what happened in a sentence', () => {
    for (const [code, [status, text]] of Object.entries(apiErrors)) {
      expect(code).toMatch(/^[A-Z_]+$/);
      expect(status).toBeGreaterThanOrEqual(400);
      expect(text).toMatch(/^[A-Z].*\.$/);
      expect(text).not.toContain('!');
    }
  });
});

describe('bodies', () => {
  it('take a policy with its defaults filled in', () => {
    expect(PolicyBody.parse(policy)).toMatchObject({ include: [], exclude: [], objectiveHours: 24, changeLimit: 40 });
  });

  it.each([
    [{ zone: 'Europe/Kelmar' }, 'zone'],
    [{ rules: [{ ...rule, schedule: { every: 'day', at: '24:00' } }] }, 'rules'],
    [{ rules: [{ ...rule, schedule: { every: 'hours', hours: 5, at: '00:00' } }] }, 'rules'],
    [{ rules: [{ ...rule, schedule: { every: 'week', days: [], at: '00:00' } }] }, 'rules'],
    [{ rules: [{ ...rule, keep: { by: 'days', days: 0 } }] }, 'rules'],
    [{ rules: [{ ...rule, targetId: 'x' }] }, 'rules'],
    [{ rules: [rule, { ...rule, kind: 'full' }] }, 'rules'],
    [{ rules: [] }, 'rules'],
    [{ name: '  ' }, 'name'],
    [{ workloads: [0] }, 'workloads'],
    [{ changeLimit: 0 }, 'changeLimit'],
  ])('refuse %j', (change, field) => {
    const result = PolicyBody.safeParse({ ...policy, ...change });
    expect(result.success).toBe(false);
    expect(result.error?.issues[0]?.path[0]).toBe(field);
  });

  it('take a policy of earlier times, which was one rule, as one of one rule', () => {
    const { rules: _rules, ...shared } = policy;
    const { no: _no, ...flat } = rule;
    expect(PolicyBody.parse(withRules({ ...shared, ...flat }))).toEqual(PolicyBody.parse(policy));
    expect(withRules(policy)).toBe(policy);
  });

  it('refuse a restore of nothing, and one without a reason', () => {
    const body = { picks: [], destination: { to: 'original' }, reason: 'because' };
    expect(RestoreBody.safeParse(body).success).toBe(false);
    expect(RestoreBody.safeParse({ ...body, damagedIn: rule.targetId }).success).toBe(true);
    expect(RestoreBody.safeParse({ ...body, damagedIn: rule.targetId, reason: ' ' }).success).toBe(false);
    expect(RestoreBody.parse({ ...body, damagedIn: rule.targetId })).toMatchObject({ rule: 'leave', trial: false });
  });

  it('take sources by absolute folder only', () => {
    expect(SourceBody.safeParse({ name: 'quay-1', folder: 'srv' }).success).toBe(false);
    expect(SourceBody.safeParse({ name: 'quay-1', folder: '/srv', readAs: 'root; rm' }).success).toBe(false);
  });

  it('read lists of states from the address and refuse what is none', () => {
    expect(RunsQuery.parse({ states: 'failed,held', limit: '5' })).toMatchObject({ states: ['failed', 'held'], limit: 5 });
    expect(RunsQuery.safeParse({ states: 'failed,exploded' }).success).toBe(false);
    fc.assert(
      fc.property(fc.string(), (ids) => {
        expect(RunsQuery.safeParse({ ids }).success).toBe(/^\d+(,\d+)*$/.test(ids) && ids.length <= 2000);
      }),
    );
  });
});
