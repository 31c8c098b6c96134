import { TestBed } from '@angular/core/testing';
import type { Point, Progress } from '@lithodex/contract';
import { beforeEach, describe, expect, it } from 'vitest';
import { Session } from '../data/session';
import { Beds } from './beds';
import { Checks } from './checks';
import { ProgressBar } from './progress-bar';
import { StateMark } from './state-mark';

const hour = 3_600_000;
const now = Date.UTC(2026, 10, 23, 9);

describe('progress', () => {
  const show = async (progress: Partial<Progress>) => {
    const fixture = TestBed.createComponent(ProgressBar);
    fixture.componentRef.setInput('progress', {
      phase: 'reading',
      items: 1200,
      bytes: 50e6,
      read: 20e6,
      fresh: 20e6,
      stored: 10e6,
      expectedItems: 2400,
      expectedBytes: 200e6,
      rate: 5e6,
      leftMs: 30_000,
      ...progress,
    });
    await fixture.whenStable();
    return fixture.nativeElement as HTMLElement;
  };

  it('tells phase, items, bytes, rate, reduction and time left', async () => {
    const el = await show({});
    expect(el.textContent).toContain('reading · 1\u202f200 items · 50.0 MB · 5.00 MB/s · new data 2.0 × smaller · 30 s left');
    expect(el.querySelector('[role=progressbar]')?.getAttribute('aria-valuenow')).toBe('25');
  });

  it('speaks of one item as one', async () => {
    expect((await show({ items: 1 })).textContent).toContain('reading · 1 item · ');
  });

  it('claims nothing that is not known', async () => {
    const el = await show({ expectedBytes: 0, expectedItems: 0, rate: 0, leftMs: null, stored: 0 });
    expect(el.textContent).not.toMatch(/left|smaller|\/s/);
    expect(el.querySelector('[role=progressbar]')?.hasAttribute('aria-valuenow')).toBe(false);
  });
});

describe('states', () => {
  it.each([
    ['failed', 'failed', 'var(--fail)'],
    ['partsMissing', 'parts missing', 'var(--warn)'],
    ['none', 'unprotected', 'var(--missed)'],
    ['done', 'done', 'var(--ink-2)'],
  ] as const)('%s has a word, a shape and a colour', async (state, word, colour) => {
    const fixture = TestBed.createComponent(StateMark);
    fixture.componentRef.setInput('state', state);
    await fixture.whenStable();
    const el = fixture.nativeElement as HTMLElement;
    expect(el.querySelector('svg')?.getAttribute('aria-label')).toBe(word);
    expect(el.querySelector('path, circle')?.getAttribute('stroke')).toBe(colour);
  });

  it('show checks, the fine ones quietly', async () => {
    const fixture = TestBed.createComponent(Checks);
    fixture.componentRef.setInput('checks', [
      { level: 'fine', text: 'Room enough.' },
      { level: 'stop', text: 'No right to write.' },
    ]);
    await fixture.whenStable();
    const rows = [...(fixture.nativeElement as HTMLElement).querySelectorAll('.check')];
    expect(rows.map((r) => [r.textContent.trim(), r.classList.contains('mute')])).toEqual([
      ['Room enough.', true],
      ['No right to write.', false],
    ]);
  });
});

describe('points over time', () => {
  const point = (age: number, more: Partial<Point> = {}): Point =>
    ({ id: `p${age}`, moment: now - age * hour, copies: [{ target: 'quay-disk' }], suspect: false, ...more }) as Point;

  beforeEach(() => {
    TestBed.configureTestingModule({ providers: [{ provide: Session, useValue: { now: () => now, zone: () => 'Europe/Oslo' } }] });
  });

  const draw = async (inputs: Record<string, unknown>) => {
    const fixture = TestBed.createComponent(Beds);
    for (const [name, value] of Object.entries(inputs)) fixture.componentRef.setInput(name, value);
    await fixture.whenStable();
    return fixture.nativeElement as HTMLElement;
  };

  it('draws a bed for each target, with joints, holes and suspect points', async () => {
    const points = [5, 29, 53, 77].map((age) => point(age));
    const el = await draw({
      points: [...points, point(2, { suspect: true }), point(30, { copies: [{ target: 'north-store' }] as Point['copies'] })],
      missing: [{ moment: now - 40 * hour, why: 'the run failed' }],
    });
    const text = el.textContent;
    expect(text).toContain('quay-disk');
    expect(text).toContain('north-store');
    expect(text).toContain('4 points');
    expect(text).toContain('the run failed');
    expect(el.querySelectorAll('rect[stroke="var(--fail)"]')).toHaveLength(1);
  });

  it('says which point one gets for the moment wanted, and how much work is lost', async () => {
    const el = await draw({ points: [point(5), point(29)], at: now - 20 * hour });
    expect(el.textContent).toContain('Sun 22 Nov 05:00 · wanted Sun 22 Nov 14:00, 9 h of work lost');
    const none = await draw({ points: [point(5)], at: now - 50 * hour });
    expect(none.textContent).toContain('no point this old');
  });
});
