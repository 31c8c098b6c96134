import { ChangeDetectionStrategy, Component, computed, inject, output } from '@angular/core';
import { toSignal } from '@angular/core/rxjs-interop';
import { RouterLink } from '@angular/router';
import type { Answered } from '@lithodex/contract';
import { Api } from '../data/api';
import { outcome } from '../data/outcome';
import { families } from '../kinds/database-words';

export type FoundServer = Answered<'serversInMachines'>['rows'][number];

/** Machines that run a database server which nobody has connected: one press says where it is. */
@Component({
  selector: 'lx-found-servers',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [RouterLink],
  template: `@if (rows().length) {
    <h2 class="mt-3">Found inside machines</h2>
    <p class="mute small m-0">Their images bring them back whole. What is connected comes back table by table, and to the second.</p>
    <ul>
      @for (s of rows(); track s.workload.id + s.by) {
        <li>
          <a [routerLink]="['/estate', s.workload.id]">{{ s.workload.name }}</a>
          <span class="mute ms-2">{{ families[s.family].label }}</span>
          <button type="button" class="act sm ms-2" [attr.aria-label]="'Connect the server in ' + s.workload.name" (click)="chosen.emit(s)">
            This one
          </button>
        </li>
      }
    </ul>
  }`,
  styles: `
    ul {
      list-style: none;
      margin: 8px 0 0;
      padding: 0;
    }
  `,
})
export class FoundServers {
  readonly chosen = output<FoundServer>();
  protected readonly families = families;
  private readonly listed = toSignal(inject(Api).call('serversInMachines').pipe(outcome<Answered<'serversInMachines'>>()));
  protected readonly rows = computed(() => this.listed()?.value?.rows ?? []);
}
