import { ChangeDetectionStrategy, Component, computed, inject, input, output, signal } from '@angular/core';
import { RouterLink } from '@angular/router';
import type { WorkloadDetail } from '@lithodex/contract';
import { formatFirst } from '@lithodex/core';
import { Api, type ApiFailure } from '../data/api';
import { Session } from '../data/session';
import { AtOnce } from '../ui/at-once';
import { FormDialog } from '../ui/form-dialog';
import { versionOf } from './database-peek';

/** Where a workload comes from, how it is read, and by how many at once. */
@Component({
  selector: 'lx-source-side',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [AtOnce, FormDialog, RouterLink],
  template: `<lx-form-dialog [heading]="'Source of ' + workload().name" (closed)="closed.emit()">
    <dl>
      @if (workload().machine; as m) {
        <dt>Platform</dt>
        <dd>
          <a [routerLink]="['/estate/platforms', workload().source.id]">{{ workload().source.name }}</a>, {{ m.host }}, {{ m.folder }}
        </dd>
        <dt>Account inside</dt>
        <dd>
          {{ workload().inside ?? (m.helper ? 'none; the helper inside brings programs to rest' : 'none') }}
          @if (session.keeps() && !workload().gone) {
            <button type="button" class="act sm" (click)="inside.emit()">{{ workload().inside === null ? 'Give one' : 'Change' }}</button>
          }
        </dd>
      } @else if (workload().facts; as f) {
        <dt>Database server</dt>
        <dd>
          <a [routerLink]="['/estate/systems', workload().source.id]">{{ workload().source.name }}</a>, MariaDB {{ versionOf(f) }}
        </dd>
        <dt>Databases</dt>
        <dd>{{ names() }}</dd>
      } @else {
        <dt>Folder on the mover</dt>
        <dd class="num">{{ workload().source.folder }}</dd>
        <dt>Read with the rights of</dt>
        <dd>{{ workload().readAs ?? 'the mover' }}</dd>
      }
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
  protected readonly versionOf = versionOf;
  protected readonly names = computed(() =>
    formatFirst(
      (this.workload().facts?.databases ?? []).map((d) => d.name),
      20,
    ),
  );

  protected set(readers: number | null): void {
    this.problem.set('');
    this.api.call('limitSource', { id: this.workload().source.id, body: { readers } }).subscribe({
      error: (failure: ApiFailure) => {
        this.problem.set(failure.message);
      },
    });
  }
}
