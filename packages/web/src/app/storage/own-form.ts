import { ChangeDetectionStrategy, Component, computed, inject, input, output, signal } from '@angular/core';
import { toObservable, toSignal } from '@angular/core/rxjs-interop';
import { FormsModule } from '@angular/forms';
import { Router, RouterLink } from '@angular/router';
import type { Answered, OwnOutlook, TargetDetail } from '@lithodex/contract';
import { countOf, formatDuration, formatMoment } from '@lithodex/core';
import { switchMap } from 'rxjs';
import { Api, type ApiFailure } from '../data/api';
import { outcome } from '../data/outcome';
import { Session } from '../data/session';
import { FormDialog } from '../ui/form-dialog';
import { formatPipes } from '../ui/format-pipes';
import { StateMark } from '../ui/state-mark';

interface Remark {
  readonly state: 'fine' | 'look';
  readonly text: string;
}

/** What taking a store over would come to, point by point, and the act itself. */
@Component({
  selector: 'lx-own-form',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [FormsModule, RouterLink, FormDialog, StateMark, ...formatPipes],
  styles: `
    form {
      display: flex;
      flex-direction: column;
      gap: 12px;
    }
    label {
      display: grid;
      gap: 4px;
      font-weight: 600;
    }
    .checks {
      list-style: none;
      margin: 0;
      padding: 0;
      display: grid;
      gap: 6px;
    }
    .checks li {
      display: grid;
      grid-template-columns: 18px 1fr;
      gap: 8px;
    }
    .each {
      max-height: 190px;
      overflow: auto;
    }
  `,
  template: `
    <lx-form-dialog [heading]="'Take over ' + target().name" (closed)="closed.emit()">
      <form (ngSubmit)="own()">
        <p class="m-0">
          This installation owns the store from then on. The other one is refused at its next write, whether it still runs or not; what it
          is writing just now is not committed. It can go on reading, and take the store back the same way.
        </p>
        @if (outlook(); as o) {
          <ul class="checks">
            @for (r of remarks(); track r.text) {
              <li>
                <lx-mark [state]="r.state" /><span>{{ r.text }}</span>
              </li>
            }
          </ul>
          @if (o.workloads.length) {
            <div class="each" tabindex="0" role="region" aria-label="What comes back of each workload">
              <table class="list">
                <thead>
                  <tr>
                    <th>Workload</th>
                    <th>Comes back as of</th>
                    <th class="right">Takes about</th>
                    <th>Tried here</th>
                  </tr>
                </thead>
                <tbody>
                  @for (w of o.workloads; track w.id) {
                    <tr>
                      <td>
                        <a [routerLink]="['/estate', w.id]">{{ w.name }}</a>
                      </td>
                      <td>{{ w.newest | moment }}</td>
                      <td class="right num">{{ w.takes === null ? 'not known' : (w.takes | duration) }}</td>
                      <td>{{ w.triedAt === null ? 'never' : (w.triedAt | ago) }}</td>
                    </tr>
                  }
                </tbody>
              </table>
            </div>
          }
        } @else if (failure(); as f) {
          <div class="problem" role="alert">{{ f.message }}</div>
        } @else {
          <div class="skeleton" style="height: 120px"></div>
        }
        <label>Why<input class="field" name="reason" [(ngModel)]="reason" required minlength="3" maxlength="500" /></label>
        @if (problem()) {
          <div class="problem" role="alert">{{ problem() }}</div>
        }
        <div><button type="submit" class="act go" [disabled]="reason().trim().length < 3">Take it over</button></div>
      </form>
    </lx-form-dialog>
  `,
})
export class OwnForm {
  private readonly api = inject(Api);
  private readonly router = inject(Router);
  private readonly session = inject(Session);
  readonly target = input.required<TargetDetail>();
  readonly closed = output();
  protected readonly problem = signal('');
  protected readonly reason = signal('');
  private readonly id = computed(() => this.target().id);
  private readonly result = toSignal(
    toObservable(this.id).pipe(switchMap((id) => this.api.call('ownOutlook', { id }).pipe(outcome<Answered<'ownOutlook'>>()))),
  );
  private readonly kept = toSignal(
    toObservable(this.id).pipe(switchMap((id) => this.api.call('keptSettings', { id }).pipe(outcome<Answered<'keptSettings'>>()))),
  );
  protected readonly outlook = computed(() => this.result()?.value);
  protected readonly failure = computed(() => this.result()?.failure);
  protected readonly remarks = computed((): Remark[] => {
    const o = this.outlook();
    return o ? [this.read(o), this.lost(o), this.takes(o), this.tried(o), this.runs(o)] : [];
  });

  private read({ readAt, points }: OwnOutlook): Remark {
    if (readAt === null) return { state: 'look', text: 'It was not read whole yet: points it holds may not be known here.' };
    return { state: 'fine', text: `Read whole ${formatMoment(readAt, this.session.zone())}: ${countOf(points, 'point')}.` };
  }

  private lost({ workloads, all }: OwnOutlook): Remark {
    const [oldest] = workloads;
    if (!oldest) return { state: 'look', text: 'No point of it is known here.' };
    const zone = this.session.zone();
    return {
      state: 'look',
      text: `What ${all === 1 ? 'its workload' : `its ${all} workloads`} became since the newest point of each is lost if the other installation and what it protects are gone; the oldest of these is ${oldest.name}, of ${formatMoment(oldest.newest, zone)}.`,
    };
  }

  private takes({ back, all }: OwnOutlook): Remark {
    if (!all) return { state: 'fine', text: 'Nothing has to be brought back.' };
    if (back.ms === null)
      return {
        state: 'look',
        text: `How long bringing everything back takes is not known: of ${countOf(back.unknown, 'workload')} nothing was measured here. A drill measures it.`,
      };
    return {
      state: 'fine',
      text: `Bringing everything back takes about ${formatDuration(back.ms)}, ${countOf(back.atOnce, 'restore')} side by side.`,
    };
  }

  private tried({ repeats, workloads }: OwnOutlook): Remark {
    const never = workloads.filter((w) => w.triedAt === null).length;
    const failed = repeats.filter((r) => r.state !== null && r.state !== 'done').map((r) => r.name);
    const brought = repeats.length
      ? `${countOf(repeats.length, 'restore')} ${repeats.length === 1 ? 'is' : 'are'} repeated here${failed.length ? `, the last time of ${failed.join(', ')} did not end well` : ''}.`
      : 'No restore is repeated here.';
    const untried = never ? ` ${countOf(never, 'workload')} never came back here, to try it.` : '';
    return { state: failed.length || never ? 'look' : 'fine', text: brought + untried };
  }

  private runs({ workloads }: OwnOutlook): Remark {
    const bare = workloads.filter((w) => !w.protectedHere).length;
    const policies = this.kept()?.value?.steps.filter((s) => s.kind === 'policy' && s.effect === 'add').length ?? 0;
    const kept = policies
      ? ` The settings kept in the store have ${countOf(policies, 'policy', 'policies')} that can be taken afterwards.`
      : ' Make policies afterwards, or take the settings that are kept in the store.';
    if (!bare) return { state: 'fine', text: 'Policies here protect all of it already.' };
    return { state: 'look', text: `Nothing is run here of ${countOf(bare, 'workload')} until a policy protects it.${kept}` };
  }

  protected own(): void {
    this.problem.set('');
    this.api.call('ownTarget', { id: this.target().id, body: { reason: this.reason() } }).subscribe({
      next: ({ runId }) => {
        this.closed.emit();
        if (runId !== null) void this.router.navigate(['/runs', runId]);
      },
      error: (f: ApiFailure) => {
        this.problem.set(f.message);
      },
    });
  }
}
