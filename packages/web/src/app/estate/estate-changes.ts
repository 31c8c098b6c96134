import { ChangeDetectionStrategy, Component, computed, inject } from '@angular/core';
import { toSignal } from '@angular/core/rxjs-interop';
import { RouterLink } from '@angular/router';
import { Api } from '../data/api';
import { Live } from '../data/live';
import { outcome } from '../data/outcome';
import { formatPipes } from '../ui/format-pipes';

/** What came, went, moved or got another name, newest first. */
@Component({
  selector: 'lx-estate-changes',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [RouterLink, ...formatPipes],
  template: `<table class="list">
      <thead>
        <tr>
          <th>When</th>
          <th>Workload</th>
          <th>What</th>
          <th>How</th>
        </tr>
      </thead>
      <tbody>
        @for (c of rows(); track c.id) {
          <tr>
            <td [title]="c.at | exact">{{ c.at | moment }}</td>
            <td>
              <a [routerLink]="['/estate', c.workload.id]"
                ><b>{{ c.workload.name }}</b></a
              >
            </td>
            <td [class.w]="c.what === 'gone'">{{ c.what }}</td>
            <td class="mute">{{ c.detail }}</td>
          </tr>
        }
      </tbody>
    </table>
    @if (result()?.value && !rows().length) {
      <div class="empty">Nothing has changed since the platforms were connected.</div>
    }`,
})
export class EstateChanges {
  private readonly api = inject(Api);
  protected readonly result = toSignal(
    inject(Live).reloading(
      () => this.api.call('estateChanges', { query: { limit: 300 } }).pipe(outcome()),
      (e) => e.kind === 'estate',
    ),
  );
  protected readonly rows = computed(() => this.result()?.value?.rows ?? []);
}
