import { Router } from '@angular/router';
import { TestBed } from '@angular/core/testing';
import { describe, expect, it } from 'vitest';
import { open, page } from '../../test/stage';
import { ApiFailure } from '../data/api';

const body = {
  name: 'From a file',
  workloads: [],
  tags: ['cranes'],
  rule: '',
  except: '',
  rules: [
    {
      no: 1,
      kind: 'incremental',
      schedule: { every: 'hand' },
      keep: { by: 'days', days: 7 },
      targetId: '00000000-0000-4000-8000-000000000001',
    },
  ],
  zone: 'UTC',
};
const offer = async (s: Awaited<ReturnType<typeof open>>, text: string) => {
  const field = s.one<HTMLInputElement>('input[type=file]');
  Object.defineProperty(field, 'files', { value: [new File([text], 'policy.yaml')], configurable: true });
  field.dispatchEvent(new Event('change'));
};

describe('a policy from a file', () => {
  it('becomes a draft that one looks at first', async () => {
    const s = await open('/policies', { answers: { listPolicies: page([]), readPolicy: { body } } });
    await offer(s, 'format: lithodex policy 1');
    await s.until(() => {
      expect(s.url()).toBe('/policies/new');
    });
    expect(s.api.last('readPolicy')?.body).toEqual({ text: 'format: lithodex policy 1' });
    expect(s.api.of('addPolicy')).toEqual([]);
    const state = TestBed.inject(Router).lastSuccessfulNavigation()?.extras.state as { draft: { name: string } };
    expect(state.draft.name).toBe('From a file');
  });

  it('is refused in words when it says what is not known here', async () => {
    const refused = new ApiFailure('INVALID', 'There is no target "nowhere" here. Nothing was changed.', undefined);
    const s = await open('/policies', { answers: { listPolicies: page([]), readPolicy: refused } });
    await offer(s, 'x');
    await s.until(() => {
      expect(s.one('[role=alert]').textContent).toContain('no target "nowhere"');
    });
    expect(s.url()).toBe('/policies');
  });

  it('is offered only to those who may put one in force', async () => {
    const s = await open('/policies', { answers: { listPolicies: page([]) }, role: 'operator' });
    expect(s.all('input[type=file]')).toEqual([]);
  });
});
