import { TestBed } from '@angular/core/testing';
import type { Consequences } from '@lithodex/contract';
import { beforeEach, describe, expect, it } from 'vitest';
import { Session } from '../data/session';
import { ConsequencesPanel } from './consequences-panel';

const base: Consequences = {
  matches: [{ id: 1, name: 'quay-1', why: 'chosen by name', alsoBy: [], fresh: false }],
  gone: [],
  zone: 'Europe/Oslo',
  nextRuns: [Date.UTC(2026, 10, 23, 21)],
  settled: { points: 14, furthestDays: 14, ages: [0.5, 1.5], arithmetic: '14 days × 1 run a day = 14 points' },
  settledNow: { points: 30, furthestDays: 30, ages: [0.5] },
  deletes: { points: 0, oldest: null, newest: null, workloads: [] },
  fit: {
    draft: { ends: Date.UTC(2026, 10, 24, 2), missed: 1 },
    inForce: { ends: Date.UTC(2026, 10, 24, 1), missed: 0 },
    tasks: 12,
  },
  leftOut: [{ path: '/srv/store', why: 'the folder of target quay-disk, left out by itself' }],
  secondPerson: '',
  measured: { runs: 12, sizeBytes: 5e9, newBytesPerRun: 2e7, targetFree: 8e10, nightMs: 60_000 },
  warnings: [],
  spreadGaps: [],
};

describe('consequences of a policy', () => {
  beforeEach(() => {
    TestBed.configureTestingModule({
      providers: [{ provide: Session, useValue: { now: () => Date.UTC(2026, 10, 23, 9), zone: () => 'Europe/Oslo' } }],
    });
  });

  async function panel(change: Partial<Consequences>) {
    const fixture = TestBed.createComponent(ConsequencesPanel);
    fixture.componentRef.setInput('consequences', { ...base, ...change });
    await fixture.whenStable();
    return { el: fixture.nativeElement as HTMLElement, fixture };
  }

  it('stand beside what is in force, with the arithmetic, the next runs and what is left out', async () => {
    const { el } = await panel({});
    const text = el.textContent.replace(/\s+/g, ' ');
    for (const part of [
      'worked out from 12 earlier points',
      'Points, settled14in force: 30',
      '14 days × 1 run a day = 14 points, for each of 1 workload',
      'Mon 23 Nov 22:00',
      'left out by itself',
      '12 tasks, all ended by Tue 24 Nov 03:00, and 1 task would miss its window. As it is, all ends Tue 24 Nov 02:00.',
      'Putting it in force deletes nothing.',
    ])
      expect(text).toContain(part);
    expect(el.querySelectorAll('svg[role=img] rect')).toHaveLength(3);
  });

  it('ask a person before points are deleted', async () => {
    const { el, fixture } = await panel({
      deletes: { points: 3, oldest: Date.UTC(2026, 9, 1), newest: Date.UTC(2026, 9, 3), workloads: ['quay-1'] },
      warnings: [{ code: 'DELETES', text: 'twice' }],
    });
    expect(el.textContent).toContain('Deletes 3 points at once');
    expect(el.textContent).not.toContain('twice');
    let agreed = 0;
    fixture.componentInstance.agree.subscribe(() => agreed++);
    [...el.querySelectorAll('button')].find((b) => b.textContent.trim() === 'Agree')!.click();
    expect(agreed).toBe(1);
    fixture.componentRef.setInput('agreed', true);
    await fixture.whenStable();
    expect(el.textContent).toContain('Agreed.');
  });

  it('say plainly what is not known or never ends', async () => {
    const { el } = await panel({
      settled: { points: null, furthestDays: null, ages: [0.5, 1.5], arithmetic: 'runs only by hand' },
      settledNow: null,
      nextRuns: [],
      measured: { ...base.measured, newBytesPerRun: null },
    });
    expect(el.textContent).toContain('no end');
    expect(el.textContent).toContain('Only when a person starts it.');
    expect(el.textContent).toContain('–');
  });
});
