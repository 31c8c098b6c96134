import { ChangeDetectionStrategy, Component, computed, inject, input, signal } from '@angular/core';
import { RouterLink } from '@angular/router';
import type { WorkloadRow } from '@lithodex/contract';
import { Api, type ApiFailure } from '../data/api';
import { Session } from '../data/session';
import { formatPipes } from '../ui/format-pipes';
import { applicationFacts, volumeWords } from './application-words';

/** What is known of an application, and the volumes that it was switched from. */
@Component({
  selector: 'lx-application-peek',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [RouterLink, ...formatPipes],
  template: `@if (facts(); as f) {
    <dl class="small">
      <dt>Volumes</dt>
      <dd>{{ volumes() }}</dd>
      @if (f.unfrozen) {
        <dt>Not frozen</dt>
        <dd class="w">{{ f.unfrozen | count: 'volume' }} of a class that the cluster can not freeze: read while used</dd>
      }
      @for (u of f.unused; track u.claim) {
        @let claim = u.claim;
        <dt>Unused</dt>
        <dd>
          {{ claim }}{{ u.now ? ', since ' + u.now + ' took its place' : '' }}
          @if (asked() === claim) {
            <span class="w">It is gone for good then.</span>
            <button type="button" class="plain" [disabled]="busy()" (click)="remove(claim)">Remove it</button>
            <button type="button" class="plain" (click)="asked.set('')">keep it</button>
          } @else {
            @if (session.restores() && u.now) {
              <button type="button" class="plain" [disabled]="busy()" (click)="back(u.now, claim)">switch back to it</button>
            }
            @if (session.keeps()) {
              <button type="button" class="plain" [disabled]="busy()" (click)="asked.set(claim)">remove it …</button>
            }
          }
        </dd>
      }
      @if (f.trouble) {
        <dt>Trouble</dt>
        <dd class="w">{{ f.trouble }}</dd>
      }
      @if (workload().gone; as gone) {
        <dt>Removed</dt>
        <dd>{{ gone | moment }}; the points stay until they expire, and can go to any cluster</dd>
      }
      <dt>Connection</dt>
      <dd><a [routerLink]="['/estate/clusters', workload().source.id]">cluster and account</a></dd>
    </dl>
    @if (busy()) {
      <p class="mute small m-0" role="status">The cluster is asked …</p>
    }
    @if (problem()) {
      <div class="problem small" role="alert">{{ problem() }}</div>
    }
  }`,
  styleUrl: './peek.scss',
})
export class ApplicationPeek {
  private readonly api = inject(Api);
  protected readonly session = inject(Session);
  readonly workload = input.required<WorkloadRow>();
  protected readonly facts = computed(() => applicationFacts(this.workload()));
  protected readonly volumes = computed(() => {
    const facts = this.facts();
    return facts ? volumeWords(facts) : '';
  });
  protected readonly busy = signal(false);
  protected readonly problem = signal('');
  /** The volume that somebody is about to remove. */
  protected readonly asked = signal('');

  protected back(from: string, to: string): void {
    this.act(this.api.call('switchVolume', { id: this.workload().id, body: { from, to } }));
  }

  protected remove(claim: string): void {
    this.asked.set('');
    this.act(this.api.call('removeVolume', { id: this.workload().id, body: { claim } }));
  }

  private act(call: ReturnType<typeof this.api.call<'removeVolume'>>): void {
    this.busy.set(true);
    this.problem.set('');
    call.subscribe({
      next: () => {
        this.busy.set(false);
      },
      error: (f: ApiFailure) => {
        this.busy.set(false);
        this.problem.set(f.message);
      },
    });
  }
}
