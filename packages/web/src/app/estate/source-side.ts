import { ChangeDetectionStrategy, Component, computed, inject, input, output, signal } from '@angular/core';
import { RouterLink } from '@angular/router';
import type { WorkloadDetail } from '@lithodex/contract';
import { Api, type ApiFailure } from '../data/api';
import { Session } from '../data/session';
import { partsOf } from '../kinds/parts-of';
import { AtOnce } from '../ui/at-once';
import { FormDialog } from '../ui/form-dialog';

/** Where a workload comes from, how it is read, and by how many at once. */
@Component({
  selector: 'lx-source-side',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [AtOnce, FormDialog, RouterLink],
  template: `<lx-form-dialog [heading]="'Source of ' + workload().name" (closed)="closed.emit()">
    <dl>
      @for (fact of facts(); track fact.term) {
        <dt>{{ fact.term }}</dt>
        <dd>
          @if (fact.link; as link) {
            <a [routerLink]="link.to">{{ link.label }}</a>
          }
          {{ fact.text }}
          @if (fact.inside && session.keeps() && !workload().gone) {
            <button type="button" class="act sm" (click)="inside.emit()">{{ fact.inside }}</button>
          }
        </dd>
      }
      @if (workload().kind === 'files') {
        <dt>Read with the rights of</dt>
        <dd>{{ workload().readAs ?? 'the mover' }}</dd>
      }
      <dt>Read by</dt>
      <dd>{{ workload().readBy ?? 'whichever mover comes first' }}</dd>
      <dt>Place</dt>
      <dd>{{ workload().source.location || 'unknown' }}</dd>
      <dt>Tags</dt>
      <dd>{{ workload().tags.join(', ') || 'none' }}</dd>
      <dt>Tasks that read it at once</dt>
      <dd>
        <lx-at-once label="readers" [limit]="workload().readers" (limitChange)="set($event)" [disabled]="!session.keeps()" />
      </dd>
    </dl>
    <p class="m-0 mute small">Backups and trials count; a restore waits for nobody.</p>
    @if (problem()) {
      <div class="problem" role="alert">{{ problem() }}</div>
    }
  </lx-form-dialog>`,
  styles: `
    dl {
      display: grid;
      grid-template-columns: 200px minmax(0, 1fr);
      gap: 6px 12px;
      margin: 0;
    }
    dt {
      font-weight: 400;
      color: var(--ink-2);
    }
    dd {
      margin: 0;
      overflow-wrap: anywhere;
    }
  `,
})
export class SourceSide {
  private readonly api = inject(Api);
  protected readonly session = inject(Session);
  readonly workload = input.required<WorkloadDetail>();
  readonly closed = output();
  /** The account inside the machine is to be given or changed. */
  readonly inside = output();
  protected readonly problem = signal('');
  protected readonly facts = computed(() => partsOf(this.workload().kind).sourceFacts(this.workload()));

  protected set(readers: number | null): void {
    this.problem.set('');
    this.api.call('limitSource', { id: this.workload().source.id, body: { readers } }).subscribe({
      error: (failure: ApiFailure) => {
        this.problem.set(failure.message);
      },
    });
  }
}
