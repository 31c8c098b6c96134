import { Injectable } from '@angular/core';
import type { LiveEvent } from '@lithodex/contract';
import { debounceTime, filter, map, merge, Observable, of, share, switchMap, throttleTime, timer } from 'rxjs';

/** Live changes from the server. The browser reconnects by itself and gets what it missed. */
@Injectable({ providedIn: 'root' })
export class Live {
  readonly events: Observable<LiveEvent> = new Observable<LiveEvent>((subscriber) => {
    const source = new EventSource('/api/v1/events');
    source.addEventListener('change', (message) => {
      subscriber.next(JSON.parse((message as MessageEvent<string>).data) as LiveEvent);
    });
    return () => {
      source.close();
    };
  }).pipe(share({ resetOnRefCountZero: () => timer(2000) }));

  /** Emits now, after matching changes (at most every `everyMs`), and once more when they have calmed down. */
  ticks(matches: (event: LiveEvent) => boolean = () => true, everyMs = 1000): Observable<null> {
    const matching = this.events.pipe(filter(matches), share());
    return merge(of(null), merge(matching.pipe(throttleTime(everyMs)), matching.pipe(debounceTime(everyMs))).pipe(map(() => null)));
  }

  /** Runs `load` at every tick. */
  reloading<T>(load: () => Observable<T>, matches?: (event: LiveEvent) => boolean, everyMs?: number): Observable<T> {
    return this.ticks(matches, everyMs).pipe(switchMap(load));
  }
}
