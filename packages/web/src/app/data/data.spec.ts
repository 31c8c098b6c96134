import { HttpErrorResponse, provideHttpClient, withInterceptors } from '@angular/common/http';
import { HttpTestingController, provideHttpClientTesting } from '@angular/common/http/testing';
import { TestBed } from '@angular/core/testing';
import { firstValueFrom } from 'rxjs';
import { afterEach, beforeEach, describe, expect, it, vi } from 'vitest';
import { Api, ApiFailure, addressOf } from './api';
import { csrfInterceptor } from './csrf-interceptor';
import { Live } from './live';
import { Picks, type PickedItem } from './picks';
import { Session } from './session';

const me = { id: 1, name: 'eva.vind', display: 'Eva Vind', role: 'clerk' as const, remit: [3], csrf: 'token-1', zone: 'Europe/Oslo' };

describe('the API client', () => {
  let http: HttpTestingController;
  beforeEach(() => {
    TestBed.configureTestingModule({
      providers: [provideHttpClient(withInterceptors([csrfInterceptor])), provideHttpClientTesting()],
    });
    http = TestBed.inject(HttpTestingController);
  });
  afterEach(() => {
    http.verify();
  });

  it('writes addresses as the contract has them, with what was left empty left out', async () => {
    const answer = firstValueFrom(TestBed.inject(Api).call('runLog', { id: 7, query: { q: 'a&b', level: undefined, limit: 5 } }));
    const request = http.expectOne((r) => r.url === '/api/v1/runs/7/log');
    expect(request.request.params.toString()).toBe('q=a%26b&limit=5');
    request.flush({ rows: [], next: null, total: 0 });
    expect(await answer).toEqual({ rows: [], next: null, total: 0 });
    expect(addressOf('download', 'a/b')).toBe('/api/v1/restores/a%2Fb/download');
  });

  it('tells a refusal from silence', async () => {
    const failure = async (flush: (r: ReturnType<HttpTestingController['expectOne']>) => void) => {
      const answer = firstValueFrom(TestBed.inject(Api).call('ledge')).then(
        () => new ApiFailure('NONE', '', undefined),
        (e: unknown) => e as ApiFailure,
      );
      flush(http.expectOne('/api/v1/ledge'));
      return answer;
    };
    const refused = await failure((r) => {
      r.flush({ code: 'FORBIDDEN', message: 'Not for clerks.', details: { role: 'clerk' } }, { status: 403, statusText: 'Forbidden' });
    });
    expect(refused).toMatchObject({ code: 'FORBIDDEN', message: 'Not for clerks.', details: { role: 'clerk' } });
    const silent = await failure((r) => {
      r.error(new ProgressEvent('error'));
    });
    expect(silent.code).toBe('UNREACHABLE');
    const garbled = await failure((r) => {
      r.flush('<html>', new HttpErrorResponse({ status: 502, statusText: 'Bad gateway' }));
    });
    expect(garbled.code).toBe('UNREACHABLE');
  });

  it("sends the session's token with changes and never with reads, and none after signing out", () => {
    const session = TestBed.inject(Session);
    const api = TestBed.inject(Api);
    const header = (url: string) => {
      const request = http.expectOne(url);
      request.flush({});
      return request.request.headers.get('x-lithodex-csrf');
    };
    session.step(TestBed.inject(Api).call('signIn', { body: { name: 'eva.vind', password: 'x' } })).subscribe();
    http.expectOne('/api/v1/session').flush({ ...me, now: Date.now() + 3_600_000 });
    expect(session.now() - Date.now()).toBeGreaterThan(3_500_000);
    expect([session.keeps(), session.runs(), session.restores(), session.reads(), session.audits()]).toEqual([
      false,
      false,
      true,
      false,
      false,
    ]);
    api.call('ledge').subscribe();
    expect(header('/api/v1/ledge')).toBeNull();
    api.call('stopRun', { id: 4 }).subscribe();
    expect(header('/api/v1/runs/4/stop')).toBe('token-1');
    session.signOut().subscribe();
    expect(header('/api/v1/session')).toBe('token-1');
    api.call('stopRun', { id: 4 }).subscribe();
    expect(header('/api/v1/runs/4/stop')).toBeNull();
  });

  it('asks who is signed in once, and takes a refusal for nobody', async () => {
    const session = TestBed.inject(Session);
    const first = firstValueFrom(session.check());
    http.expectOne('/api/v1/session').flush({ code: 'SIGN_IN', message: 'Sign in.' }, { status: 401, statusText: 'Unauthorized' });
    expect(await first).toBe(false);
    const second = firstValueFrom(session.check());
    http.expectOne('/api/v1/session').flush({ ...me, now: Date.now() });
    expect(await second).toBe(true);
    expect(await firstValueFrom(session.check())).toBe(true);
    expect(session.zone()).toBe('Europe/Oslo');
  });
});

describe('live changes', () => {
  class Source extends EventTarget {
    static readonly all: Source[] = [];
    closed = false;
    constructor(readonly url: string) {
      super();
      Source.all.push(this);
    }
    close() {
      this.closed = true;
    }
    say(kind: string) {
      this.dispatchEvent(
        new MessageEvent('change', { data: JSON.stringify({ id: 1, kind, runId: null, workloadId: null, taskId: null }) }),
      );
    }
  }
  beforeEach(() => {
    vi.useFakeTimers();
    vi.stubGlobal('EventSource', Source);
    Source.all.length = 0;
  });
  afterEach(() => {
    vi.useRealTimers();
    vi.unstubAllGlobals();
  });

  it('share one connection, thin out a flood, and never swallow the last change', () => {
    const live = TestBed.inject(Live);
    let ticks = 0;
    let others = 0;
    const one = live.ticks((e) => e.kind === 'run', 1000).subscribe(() => ticks++);
    const two = live.ticks((e) => e.kind === 'policy', 1000).subscribe(() => others++);
    expect([ticks, others, Source.all.length]).toEqual([1, 1, 1]);
    for (let i = 0; i < 20; i++) {
      Source.all[0]!.say('run');
      vi.advanceTimersByTime(100);
    }
    expect(ticks).toBeLessThanOrEqual(4);
    vi.advanceTimersByTime(1500);
    const settled = ticks;
    vi.advanceTimersByTime(5000);
    expect(ticks).toBe(settled);
    expect(others).toBe(1);
    one.unsubscribe();
    two.unsubscribe();
    expect(Source.all[0]!.closed).toBe(false);
    vi.advanceTimersByTime(2500);
    expect(Source.all[0]!.closed).toBe(true);
  });
});

describe('the pick list', () => {
  const item = (path: string, pointId = 'p1'): PickedItem => ({ pointId, path, workload: 'quay-1', moment: 5, kind: 'file', size: 1 });
  beforeEach(() => {
    sessionStorage.clear();
  });

  it('holds an item once for each point, and forgets it when picked again', () => {
    const picks = TestBed.inject(Picks);
    picks.add([item('a'), item('a'), item('a', 'p2')]);
    expect(picks.items()).toHaveLength(2);
    picks.toggle(item('a'));
    expect(picks.has(item('a'))).toBe(false);
    expect(picks.has(item('a', 'p2'))).toBe(true);
    picks.clear();
    expect(picks.items()).toEqual([]);
  });

  it('outlives a reload, and starts empty when what was kept is broken', () => {
    sessionStorage.setItem('lx-picks', JSON.stringify([item('kept')]));
    expect(TestBed.inject(Picks).items()).toEqual([item('kept')]);
    TestBed.tick();
    TestBed.resetTestingModule();
    sessionStorage.setItem('lx-picks', '{broken');
    expect(TestBed.inject(Picks).items()).toEqual([]);
  });
});
