import { TestBed } from '@angular/core/testing';
import { describe, expect, it } from 'vitest';
import { day, hour, minute, now, show, type Setting } from '../../test/stage';
import { Moment } from '../data/moment';
import { Preferences } from '../data/preferences';
import { Finder } from './finder';
import { Ledge } from './ledge';
import { MomentControl } from './moment-control';
import { Shell } from './shell';

const ledge = { running: [], waiting: 0, followed: 0, attached: 0, fromStore: 0, coming: [], now };
const stage = (setting: Setting = {}) => show(Shell, {}, { ...setting, answers: { ledge, find: { hits: [] }, ...setting.answers } });
const places = (s: { all(q: string): HTMLElement[] }) => s.all('nav a').map((a) => a.textContent);

describe('the shell', () => {
  it.each([
    ['administrator', ['Watch', 'Estate', 'Policies', 'Runs', 'Recover', 'Storage', 'Reports', 'Trust']],
    ['operator', ['Watch', 'Estate', 'Policies', 'Runs', 'Recover', 'Storage', 'Reports', 'Trust']],
    ['auditor', ['Watch', 'Estate', 'Policies', 'Runs', 'Recover', 'Storage', 'Reports', 'Trust']],
    ['clerk', ['Estate', 'Runs', 'Recover']],
  ] as const)('shows the places of the %s', async (role, wanted) => {
    const s = await stage({ role });
    expect(places(s)).toEqual(wanted);
    expect(s.all('lx-ledge')).toHaveLength(role === 'clerk' ? 0 : 1);
  });

  it('goes to a place with two keys, and only to those one may see', async () => {
    const s = await stage({ role: 'clerk' });
    await s.press('g');
    await s.press('t');
    expect(s.url()).toBe('/');
    await s.press('r');
    expect(s.url()).toBe('/');
    await s.press('g');
    await s.press('r');
    expect(s.url()).toBe('/runs');
  });

  it('opens the finder and the list of keys, and closes them', async () => {
    const s = await stage();
    await s.press('k', { ctrlKey: true });
    expect(s.all('lx-finder')).toHaveLength(1);
    s.one('lx-finder input').dispatchEvent(new KeyboardEvent('keydown', { key: 'Escape', bubbles: true }));
    await s.settle();
    expect(s.all('lx-finder')).toHaveLength(0);
    await s.press('?');
    expect(s.one('lx-keyboard-help').textContent).toContain('find anything');
    await s.click('Close');
    expect(s.all('lx-keyboard-help')).toHaveLength(0);
  });

  it('leaves single keys alone when they are switched off', async () => {
    const s = await stage();
    await s.click('Single keys on');
    await s.press('?');
    await s.press('g');
    await s.press('e');
    expect(s.all('lx-keyboard-help')).toHaveLength(0);
    expect(s.url()).toBe('/');
    await s.press('k', { ctrlKey: true });
    expect(s.all('lx-finder')).toHaveLength(1);
    expect(localStorage.getItem('lx-keys')).toBe('off');
  });

  it('changes the theme round and remembers it', async () => {
    const s = await stage();
    const theme = () => document.documentElement.dataset['bsTheme'];
    expect(theme()).toBe('light');
    await s.click('Theme as the system');
    await s.click('Light theme');
    expect(theme()).toBe('dark');
    expect(localStorage.getItem('lx-theme')).toBe('dark');
    await s.click('Dark theme');
    expect(TestBed.inject(Preferences).theme()).toBe('system');
  });

  it('signs out and forgets', async () => {
    const s = await stage();
    expect(s.one('.who').textContent.trim()).toBe('EV');
    await s.click('Sign out');
    expect(s.api.of('signOut')).toHaveLength(1);
    await s.until(() => {
      expect(s.url()).toBe('/sign-in');
    });
  });
});

describe('the finder', () => {
  const hits = [
    { kind: 'workload', title: 'quay-1', note: 'Server room', link: '/estate/1', query: {} },
    { kind: 'file', title: 'roster.csv', note: 'plans', link: '/estate/1', query: { item: 'plans/roster.csv' } },
  ];
  const opened = () => show(Finder, {}, { answers: { find: { hits } } });
  const key = async (s: Awaited<ReturnType<typeof opened>>, name: string) => {
    s.one('input').dispatchEvent(new KeyboardEvent('keydown', { key: name, bubbles: true, cancelable: true }));
    await s.settle();
  };

  it('offers acts before anything is typed, then what fits, and goes round with the arrows', async () => {
    const s = await opened();
    expect(s.all('.hit')).toHaveLength(12);
    await s.type('input', 'ro');
    await s.until(() => {
      expect(s.all('.hit')[0]?.textContent).toContain('quay-1');
    });
    expect(s.api.last('find')?.query).toEqual({ q: 'ro' });
    const on = () => s.all('.hit').findIndex((h) => h.getAttribute('aria-selected') === 'true');
    await key(s, 'ArrowUp');
    expect(on()).toBe(s.all('.hit').length - 1);
    await key(s, 'ArrowDown');
    await key(s, 'ArrowDown');
    expect(on()).toBe(1);
    let closed = 0;
    s.component.closed.subscribe(() => closed++);
    await key(s, 'Enter');
    expect(s.url()).toBe('/estate/1?item=plans/roster.csv');
    expect(closed).toBe(1);
  });
});

describe('the ledge', () => {
  const opened = (more: object) => show(Ledge, {}, { answers: { ledge: { ...ledge, ...more } } });

  it('says when nothing runs', async () => {
    const s = await opened({});
    expect(s.one('a').textContent).toBe('Nothing running');
    expect(s.one('.clock').textContent).toBe('now 09:00 UTC');
  });

  it('tells of logs that are followed without drawing them', async () => {
    const s = await opened({ followed: 2, waiting: 1, attached: 1, fromStore: 2 });
    expect(s.one('a').textContent).toBe('Nothing running, 1 waiting, 2 logs followed, 1 disk attached, 2 machines from the store');
  });

  it('draws running work across now and what comes to its right, never over each other', async () => {
    const running = [
      { runId: 1, name: 'Nightly servers of the quay', startedAt: now - 30 * minute, share: 0.5, leftMs: 30 * minute, text: '50 %' },
      { runId: 2, name: 'Hourly', startedAt: now - minute, share: null, leftMs: null, text: 'reading' },
    ];
    const coming = [1, 2, 3, 4, 5, 6].map((h) => ({ at: now + h * hour, policyId: h, name: `Policy ${h}` }));
    const s = await opened({ running, waiting: 3, coming });
    expect(s.one('a').textContent).toBe('2 running, 3 waiting');
    const bars = s.all('rect[fill="var(--live)"]');
    expect(Number(bars[0]!.getAttribute('x')) + Number(bars[0]!.getAttribute('width'))).toBeCloseTo(150, 6);
    expect(s.el.textContent).toContain(', 30 min left');
    expect(s.el.textContent).toContain('Hourly, reading');
    const spans = s.all('rect[stroke-dasharray]').map((r) => [Number(r.getAttribute('x')), Number(r.getAttribute('width'))] as const);
    expect(spans.length).toBeGreaterThan(0);
    for (let i = 1; i < spans.length; i++) expect(spans[i]![0]).toBeGreaterThanOrEqual(spans[i - 1]![0] + spans[i - 1]![1]);
    expect(spans.at(-1)![0] + spans.at(-1)![1]).toBeLessThanOrEqual(760);
  });
});

describe('the moment', () => {
  it("is set from a clock in the installation's zone, never later than now, and cleared", async () => {
    const s = await show(MomentControl, {});
    expect(s.text()).toContain('As of now');
    await s.type('input', '2026-11-20T08:30');
    await s.click('Set the moment');
    expect(s.url()).toBe(`/?at=${now - 3 * day - 30 * minute}`);
    expect(s.text()).toContain('As of Fri 20 Nov 08:30');
    await s.type('input', '2027-01-01T00:00');
    await s.click('Set the moment');
    expect(Math.abs(TestBed.inject(Moment).at()! - now)).toBeLessThan(minute);
    await s.click(s.one('.clear'));
    expect(s.url()).toBe('/');
  });

  it.each(['', 'yesterday', '-5', '1e99'])('takes "%s" in the address for now', async (text) => {
    const s = await show(MomentControl, {});
    await s.go(`/?at=${text}`);
    expect(TestBed.inject(Moment).at()).toBeNull();
  });
});
