import { ChangeDetectionStrategy, Component, computed, inject, signal } from '@angular/core';
import { toSignal } from '@angular/core/rxjs-interop';
import { RouterLink } from '@angular/router';
import type { ReadAnew } from '@lithodex/contract';
import { countOf } from '@lithodex/core';
import { Api, type ApiFailure } from '../data/api';
import { Live } from '../data/live';
import { outcome } from '../data/outcome';
import { Session } from '../data/session';
import { formatPipes } from '../ui/format-pipes';
import { StateMark } from '../ui/state-mark';

/** The platforms that are connected: when each was read last, and to read it again; and systems that can't be read. */
@Component({
  selector: 'lx-platform-strip',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [RouterLink, StateMark, ...formatPipes],
  template: `@for (s of troubled(); track s.id) {
      <span class="one small">
        <lx-mark state="failed" />
        <a [routerLink]="[pages[s.address.kind], s.id]">{{ s.name }}</a>
        <span class="f cut" [title]="s.trouble">{{ s.trouble }}</span>
      </span>
    }
    @for (p of platforms(); track p.id) {
      <span class="one small">
        @if (p.trouble) {
          <lx-mark state="failed" />
        }
        <a [routerLink]="['/estate/platforms', p.id]">{{ p.name }}</a>
        <span class="mute">{{ p.readAt ? 'read ' : 'not read yet' }}{{ p.readAt | ago }}</span>
        @if (p.trouble) {
          <span class="f cut" [title]="p.trouble">{{ p.trouble }}</span>
        }
        @if (session.runs()) {
          <button type="button" class="plain" [disabled]="busy() === p.id" (click)="again(p.id)">
            {{ busy() === p.id ? 'reading …' : 'read again' }}
          </button>
        }
      </span>
      @if (told().id === p.id) {
        <span class="small mute" role="status">{{ told().text }}</span>
      }
    }`,
  styles:
    ':host { display: flex; gap: 18px; align-items: center; min-width: 0; } .one { display: inline-flex; gap: 6px; align-items: center; min-width: 0; }',
})
export class PlatformStrip {
  private readonly api = inject(Api);
  protected readonly session = inject(Session);
  private readonly result = toSignal(
    inject(Live).reloading(
      () => this.api.call('listPlatforms').pipe(outcome()),
      (e) => e.kind === 'estate',
    ),
  );
  private readonly systems = toSignal(
    inject(Live).reloading(
      () => this.api.call('listSystems').pipe(outcome()),
      (e) => e.kind === 'estate',
    ),
  );
  protected readonly platforms = computed(() => this.result()?.value?.rows ?? []);
  /** Systems that can't be read; those that can be are quiet. */
  protected readonly troubled = computed(() => (this.systems()?.value?.rows ?? []).filter((s) => s.trouble));
  protected readonly pages = {
    database: '/estate/systems',
    tenant: '/estate/tenants',
    bucket: '/estate/storages',
    application: '/estate/clusters',
    share: '/estate/file-servers',
  } as const;
  protected readonly busy = signal<number | null>(null);
  protected readonly told = signal<{ id: number; text: string }>({ id: 0, text: '' });

  protected again(id: number): void {
    this.busy.set(id);
    this.api.call('readPlatform', { id }).subscribe({
      next: (r) => {
        this.busy.set(null);
        this.told.set({ id, text: wordsOf(r) });
      },
      error: (f: ApiFailure) => {
        this.busy.set(null);
        this.told.set({ id, text: f.message });
      },
    });
  }
}

function wordsOf({ machines, fresh, gone, moved }: ReadAnew): string {
  const parts = [fresh && `${fresh} new`, gone && `${gone} gone`, moved && `${moved} moved`].filter(Boolean);
  return `${countOf(machines, 'machine')}: ${parts.length ? parts.join(', ') : 'nothing is new'}`;
}
