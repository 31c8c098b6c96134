import { TestBed } from '@angular/core/testing';
import { Router } from '@angular/router';
import { of, throwError } from 'rxjs';
import { describe, expect, it } from 'vitest';
import { Api, ApiFailure } from '../data/api';
import { RepeatForm } from './repeat-form';

async function stage(refused = false) {
  const sent: { schedule: unknown; workloads: unknown }[] = [];
  const call = (_name: string, { body }: { body: (typeof sent)[number] }) => {
    sent.push(body);
    return refused ? throwError(() => new ApiFailure('NAME_TAKEN', 'There is one of this name.', undefined)) : of({ id: 4 });
  };
  const went: unknown[] = [];
  TestBed.configureTestingModule({
    providers: [
      { provide: Api, useValue: { call } },
      { provide: Router, useValue: { navigate: (to: unknown) => went.push(to) } },
    ],
  });
  const fixture = TestBed.createComponent(RepeatForm);
  fixture.componentRef.setInput('workloads', [3, 3, 5]);
  fixture.componentRef.setInput('destination', { to: 'folder', folder: '/srv/ready' });
  await fixture.whenStable();
  const page = fixture.nativeElement as HTMLElement;
  const write = async (name: string, text: string) => {
    const field = page.querySelector<HTMLInputElement>(`input[name=${name}]`)!;
    field.value = text;
    field.dispatchEvent(new Event('input'));
    await fixture.whenStable();
  };
  const choose = async (rhythm: string, past = 0) => {
    const form = fixture.componentInstance as unknown as { rhythm: { set(v: string): void }; past: { set(v: number): void } };
    form.rhythm.set(rhythm);
    form.past.set(past);
    await fixture.whenStable();
  };
  const save = async () => {
    await write('name', 'Ready');
    await write('reason', 'to go on here');
    page.querySelector('form')!.dispatchEvent(new Event('submit'));
    await fixture.whenStable();
  };
  return { sent, went, page, choose, write, save };
}

describe('how a restore is repeated', () => {
  it('is every day at a time, unless something else is said', async () => {
    const s = await stage();
    s.page.querySelector('form')!.dispatchEvent(new Event('submit'));
    expect(s.sent).toEqual([]);
    await s.write('at', '06:30');
    await s.save();
    expect(s.sent).toMatchObject([{ schedule: { every: 'day', at: '06:30' }, workloads: [3, 5] }]);
    expect(s.went).toEqual([['/recover/standing']]);
  });

  it('is on some weekdays, past every hour, or whenever there is a newer point', async () => {
    const s = await stage();
    await s.choose('1,2,3,4,5');
    await s.save();
    await s.choose('hour', 40);
    expect(s.page.textContent).toMatch(/at\s+40 minutes.*past it the newest/s);
    expect(s.page.querySelector('input[name=at]')).toBeNull();
    await s.save();
    await s.choose('point');
    expect(s.page.textContent).toContain('there is a newer good point of one of them');
    await s.save();
    expect(s.sent.map((b) => b.schedule)).toEqual([
      { every: 'week', days: [1, 2, 3, 4, 5], at: '05:00' },
      { every: 'hour', past: [40] },
      { every: 'point' },
    ]);
  });

  it('says why it can not be', async () => {
    const s = await stage(true);
    await s.save();
    expect(s.page.querySelector('.problem')?.textContent).toContain('one of this name');
    expect(s.went).toEqual([]);
  });
});
