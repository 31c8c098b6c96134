import { InteractivityChecker } from '@angular/cdk/a11y';
import { Injectable, type Type } from '@angular/core';
import { TestBed } from '@angular/core/testing';
import { provideRouter, Router, withComponentInputBinding } from '@angular/router';
import { RouterTestingHarness } from '@angular/router/testing';
import { routes as contract, type LiveEvent, type Role, type Route, type RouteName } from '@lithodex/contract';
import { filter, isObservable, map, merge, of, Subject, switchMap, throwError, type Observable } from 'rxjs';
import { vi } from 'vitest';
import { Api, ApiFailure } from '../app/data/api';
import { Live } from '../app/data/live';
import { Session } from '../app/data/session';
import { routes } from '../app/routes';
import { plotter, type Plotter } from '../app/ui/plot';

// a page is compiled in the first test that opens it, which takes long on a busy machine
vi.setConfig({ testTimeout: 20_000 });

/** The server's clock in component tests: Mon 23 Nov 2026 09:00 UTC. */
export const now = Date.UTC(2026, 10, 23, 9);
export const minute = 60_000;
export const hour = 60 * minute;
export const day = 24 * hour;

export interface Call {
  readonly name: RouteName;
  readonly id?: number | string;
  readonly query?: Record<string, unknown>;
  readonly body?: unknown;
}
export type Answers = Partial<Record<RouteName, unknown>>;

/** Stands in for the server: answers by route, refuses what the contract refuses, remembers what was asked. */
export class FakeApi {
  readonly calls: Call[] = [];
  constructor(readonly answers: Answers) {}

  call(name: RouteName, options: Omit<Call, 'name'> = {}): Observable<unknown> {
    const route: Route = contract[name];
    const query = Object.fromEntries(Object.entries(options.query ?? {}).filter(([, v]) => v !== undefined && v !== null && v !== ''));
    route.query?.parse(query);
    route.body?.parse(options.body);
    const call: Call = { name, ...options, query };
    this.calls.push(call);
    const known = this.answers[name];
    const answer: unknown = typeof known === 'function' ? (known as (c: Call) => unknown)(call) : known;
    if (answer instanceof ApiFailure) return throwError(() => answer);
    if (answer === undefined) return throwError(() => new ApiFailure('UNANSWERED', `Nothing answers ${name} in this test.`, undefined));
    const parsed = (of: unknown) => (route.response ? route.response.parse(of) : of);
    return isObservable(answer) ? answer.pipe(map(parsed)) : of(parsed(answer));
  }

  of(name: RouteName): Call[] {
    return this.calls.filter((c) => c.name === name);
  }

  last(name: RouteName): Call | undefined {
    return this.of(name).at(-1);
  }
}

/** Live changes without a connection; a tick is passed on at once. */
@Injectable()
export class FakeLive {
  readonly events = new Subject<LiveEvent>();

  ticks(matches: (event: LiveEvent) => boolean = () => true): Observable<null> {
    return merge(of(null), this.events.pipe(filter(matches))).pipe(map(() => null));
  }

  reloading<T>(load: () => Observable<T>, matches?: (event: LiveEvent) => boolean): Observable<T> {
    return this.ticks(matches).pipe(switchMap(load));
  }

  tell(kind: LiveEvent['kind'], more: Partial<LiveEvent> = {}): void {
    this.events.next({ id: 1, kind, runId: null, workloadId: null, taskId: null, ...more });
  }
}

/** Charts that were drawn, newest last. */
export const drawn: Parameters<Plotter['react']>[] = [];
const fakePlotter: Plotter = {
  react: (...chart) => {
    drawn.push(chart);
    return Promise.resolve();
  },
  purge: () => undefined,
};

/** The words of an element as one reads them: pieces apart by one blank. */
export function words(element: Element): string {
  const walker = document.createTreeWalker(element, NodeFilter.SHOW_TEXT);
  const pieces: string[] = [];
  while (walker.nextNode()) pieces.push(walker.currentNode.textContent ?? '');
  return pieces
    .join(' ')
    .replace(/[ \n]+/g, ' ')
    .trim();
}

export const page = (rows: readonly unknown[], next: string | null = null) => ({ rows, next, total: rows.length });

export interface Stage {
  readonly api: FakeApi;
  readonly live: FakeLive;
  readonly el: HTMLElement;
  /** Waits until the screen has settled. */
  settle(): Promise<void>;
  /** Waits until `check` stops throwing. */
  until(check: () => void): Promise<void>;
  text(): string;
  all(selector: string): HTMLElement[];
  one<T extends HTMLElement = HTMLElement>(selector: string): T;
  /** The button or link that reads so. */
  button(text: string): HTMLButtonElement;
  click(what: string | HTMLElement): Promise<void>;
  type(selector: string, text: string): Promise<void>;
  choose(selector: string, value: string): Promise<void>;
  /** Opens the slot that is labelled so and takes the first choice that begins so, or types one. */
  fill(label: string, choice: string | { typed: string }): Promise<void>;
  press(key: string, options?: KeyboardEventInit): Promise<void>;
  go(url: string): Promise<void>;
  url(): string;
}

export interface Setting {
  readonly answers?: Answers;
  readonly role?: Role;
}

/** Prepares the parts every screen needs, with somebody of `role` signed in. */
export function prepare({ answers = {}, role = 'administrator' }: Setting): { api: FakeApi; live: FakeLive } {
  sessionStorage.clear();
  localStorage.clear();
  const media = Object.assign(new EventTarget(), { matches: false, addListener: () => undefined, removeListener: () => undefined });
  vi.stubGlobal('matchMedia', () => media);
  // nothing is laid out here, and a list of no height shows no rows
  vi.spyOn(HTMLElement.prototype, 'clientHeight', 'get').mockReturnValue(800);
  const me = { id: 1, name: 'eva.vind', display: 'Eva Vind', role, remit: null, csrf: 'c', idleMinutes: null, zone: 'UTC', now };
  const api = new FakeApi({ me, signOut: {}, ...answers });
  const live = new FakeLive();
  TestBed.configureTestingModule({
    providers: [
      provideRouter(
        [...routes.find((r) => r.children)!.children!.filter((r) => r.path !== '' && r.path !== '**'), { path: '**', children: [] }],
        withComponentInputBinding(),
      ),
      { provide: Api, useValue: api },
      { provide: Live, useValue: live },
      { provide: plotter, useValue: () => Promise.resolve(fakePlotter) },
      { provide: InteractivityChecker, useValue: { isFocusable: () => true, isTabbable: () => true } },
    ],
  });
  TestBed.inject(Session).check().subscribe();
  api.calls.length = 0;
  return { api, live };
}

function acts(root: HTMLElement, whenStable: () => Promise<unknown>, parts: { api: FakeApi; live: FakeLive }): Stage {
  const settle = async () => {
    await whenStable();
    await new Promise((resolve) => setTimeout(resolve));
    await whenStable();
  };
  const one = <T extends HTMLElement>(selector: string): T => {
    const found = root.querySelector<T>(selector);
    if (!found) throw new Error(`${selector} is not on the screen: ${root.textContent}`);
    return found;
  };
  const button = (text: string) => {
    const all = [...root.querySelectorAll<HTMLButtonElement>('button, a')];
    const found = all.find((b) => words(b) === text) ?? all.find((b) => words(b).startsWith(text));
    if (!found) throw new Error(`No button reads "${text}", but ${all.map(words).join(' | ')}`);
    return found;
  };
  const fire = async (selector: string, value: string, event: string) => {
    const field = one<HTMLInputElement>(selector);
    field.value = value;
    field.dispatchEvent(new Event(event, { bubbles: true }));
    await settle();
  };
  return {
    ...parts,
    el: root,
    settle,
    until: async (check) => {
      await vi.waitFor(check, { timeout: 4000, interval: 20 });
      await settle();
    },
    text: () => words(root),
    all: (selector) => [...root.querySelectorAll<HTMLElement>(selector)],
    one,
    button,
    click: async (what) => {
      (typeof what === 'string' ? button(what) : what).click();
      await settle();
    },
    type: (selector, text) => fire(selector, text, 'input'),
    choose: (selector, value) => fire(selector, value, 'change'),
    fill: async (label, choice) => {
      one(`[aria-label^="${label}:"]`).click();
      await settle();
      const menu = [...document.querySelectorAll('.menu.show')].at(-1)!;
      if (typeof choice === 'string')
        [...menu.querySelectorAll<HTMLButtonElement>('.choices button')].find((b) => words(b).startsWith(choice))!.click();
      else {
        const box = menu.querySelector('input')!;
        box.value = choice.typed;
        box.dispatchEvent(new Event('input'));
        box.dispatchEvent(new KeyboardEvent('keydown', { key: 'Enter' }));
      }
      await settle();
    },
    press: async (key, options = {}) => {
      document.body.dispatchEvent(new KeyboardEvent('keydown', { key, bubbles: true, cancelable: true, ...options }));
      await settle();
    },
    go: async (url) => {
      await TestBed.inject(Router).navigateByUrl(url);
      await settle();
    },
    url: () => decodeURIComponent(TestBed.inject(Router).url),
  };
}

/** Opens a place of the application by its address, as the router does. */
export async function open(url: string, setting: Setting = {}): Promise<Stage> {
  const parts = prepare(setting);
  const harness = await RouterTestingHarness.create();
  await harness.navigateByUrl(url);
  const stage = acts(
    harness.routeNativeElement ?? (harness.fixture.nativeElement as HTMLElement),
    () => harness.fixture.whenStable(),
    parts,
  );
  await stage.settle();
  return stage;
}

/** Shows one component with its inputs; `outputs` collects what it emits. */
export async function show<C>(
  component: Type<C>,
  inputs: Record<string, unknown>,
  setting: Setting = {},
): Promise<Stage & { set(name: string, value: unknown): Promise<void>; component: C }> {
  const parts = prepare(setting);
  const fixture = TestBed.createComponent(component);
  for (const [name, value] of Object.entries(inputs)) fixture.componentRef.setInput(name, value);
  const stage = acts(fixture.nativeElement as HTMLElement, () => fixture.whenStable(), parts);
  await stage.settle();
  const set = async (name: string, value: unknown) => {
    fixture.componentRef.setInput(name, value);
    await stage.settle();
  };
  return { ...stage, set, component: fixture.componentInstance };
}
