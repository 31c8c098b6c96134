import { describe, expect, it } from 'vitest';
import { draft, policy, said, stage } from '../../test/policy-stage';
import { policyBody, uuid } from '../../test/samples';
import { words } from '../../test/stage';

describe('the rules of a policy', () => {
  it('has several rules, each a sentence with copies of its own, and asks which one is to run now', async () => {
    const s = await stage('/policies/5', { runPolicy: { runId: 40 } });
    await s.until(() => {
      expect(words(s.one('h2 .aside'))).not.toBe('');
    });
    expect(s.all('.rule .act').map(words)).not.toContain('Without this rule');
    await s.click('Another rule');
    await s.until(() => {
      expect(draft(s).rules[1]).toEqual({
        no: 2,
        kind: 'full',
        synthetic: null,
        schedule: { every: 'week', days: [7], at: '22:00' },
        keep: { by: 'days', days: 60 },
        targetId: uuid(1),
        lockDays: null,
        objectiveMinutes: null,
        parts: [],
        copies: [],
      });
    });
    await s.click('Without this rule');
    await s.until(() => {
      expect(draft(s).rules.map((r) => r.no)).toEqual([2]);
    });
  });

  it('says of a log how old the newest second may be, and of nothing else', async () => {
    const s = await stage('/policies/new', {});
    await s.fill('kind', 'log');
    await s.until(() => {
      expect(draft(s).rules[0]).toMatchObject({ kind: 'log', objectiveMinutes: 15, keep: { by: 'days', days: 14 } });
    });
    expect(s.text()).toContain('and the newest second is at most 15 min old');
    await s.fill('age of the newest second', 'at most 5 min old');
    await s.until(() => {
      expect(draft(s).rules[0]).toMatchObject({ objectiveMinutes: 5 });
    });
    await s.fill('kind', 'full');
    await s.until(() => {
      expect(draft(s).rules[0]).toMatchObject({ kind: 'full', objectiveMinutes: null });
    });
  });

  it('speaks of parts of people and sites only where it protects some', async () => {
    const s = await stage('/policies/new', {});
    await s.until(() => {
      expect(draft(s).rules[0]).toMatchObject({ kind: 'incremental', parts: [] });
    });
    expect(s.text()).not.toContain('Of people and sites');
  });

  it('reads a part of people and sites more often, and everything again with a full', async () => {
    const s = await stage('/policies/new', {
      estateValues: { workloads: [{ id: 1, name: 'Ragna Holt', kind: 'tenant', coverage: 'none' }], tags: [], fields: {} },
    });
    await s.until(() => {
      expect(s.text()).toContain('Of people and sites');
    });
    await s.fill('parts', 'mail, calendars and contacts');
    await s.until(() => {
      expect(draft(s).rules[0]).toMatchObject({ parts: ['Mail', 'Calendars', 'Contacts'] });
    });
    expect(s.text()).toContain(', the rest stays as it was read last.');
    await s.fill('kind', 'full');
    await s.until(() => {
      expect(draft(s).rules[0]).toMatchObject({ kind: 'full', parts: [] });
    });
    expect(s.text()).not.toContain('Of people and sites');
  });

  it('runs the one of several rules that is chosen', async () => {
    const [daily] = policyBody().rules;
    const weekly = { ...daily!, no: 3, kind: 'full' as const, schedule: { every: 'week' as const, days: [7], at: '03:00' } };
    const body = { ...policyBody(), rules: [daily!, weekly] };
    const s = await stage('/policies/5', { getPolicy: { ...policy, body }, runPolicy: { runId: 40 } });
    await s.click('Run now');
    await s.click('Every Sunday at 03:00, a full');
    expect(s.api.last('runPolicy')).toMatchObject({ id: 5, body: { trial: false, rule: 3 } });
  });

  it('begins as the policy that a person chose for it', async () => {
    const {
      name: _n,
      workloads: _w,
      tags: _t,
      rule: _r,
      except: _e,
      ...terms
    } = policyBody({ objectiveHours: 8, keep: { by: 'points', points: 3 } });
    const s = await stage('/policies/new', { policyStart: { policyId: 5, terms } });
    await s.until(() => {
      expect(said(s)).toMatchObject({ objectiveHours: 8, keep: { by: 'points', points: 3 }, workloads: [], name: 'draft' });
    });
  });

  it('can be what new ones start from', async () => {
    const s = await stage('/policies/5', { setPolicyStart: { policyId: 5, terms: null } });
    await s.click('Start new ones from this');
    expect(s.api.last('setPolicyStart')?.body).toEqual({ policyId: 5 });
    await s.until(() => {
      expect(s.button('New ones start from this').getAttribute('aria-pressed')).toBe('true');
    });
    await s.click('New ones start from this');
    expect(s.api.last('setPolicyStart')?.body).toEqual({ policyId: null });
  });
});
