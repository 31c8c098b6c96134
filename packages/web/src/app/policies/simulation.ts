import { Injectable, type OnDestroy } from '@angular/core';
import { Observable } from 'rxjs';
import { simulateAll, type SimulationJob, type TargetOutlook } from './simulation-job';

interface Answer {
  readonly id: number;
  readonly outlooks: TargetOutlook[];
}

/** Lives policies years ahead in a worker, so that typing never waits for it. */
@Injectable({ providedIn: 'root' })
export class Simulation implements OnDestroy {
  private worker: Worker | undefined;
  private count = 0;

  /** Emits the outlook once; nothing comes of it when it is unsubscribed before. */
  run(job: SimulationJob): Observable<TargetOutlook[]> {
    return new Observable((subscriber) => {
      if (typeof Worker === 'undefined') {
        subscriber.next(simulateAll(job));
        subscriber.complete();
        return undefined;
      }
      const worker = (this.worker ??= new Worker(new URL('./simulate.worker', import.meta.url), { type: 'module' }));
      const id = ++this.count;
      const answer = ({ data }: MessageEvent<Answer>) => {
        if (data.id !== id) return;
        subscriber.next(data.outlooks);
        subscriber.complete();
      };
      worker.addEventListener('message', answer);
      worker.postMessage({ id, job });
      return () => {
        worker.removeEventListener('message', answer);
      };
    });
  }

  ngOnDestroy(): void {
    this.worker?.terminate();
  }
}
