import { ChangeDetectionStrategy, Component, inject } from '@angular/core';
import { toSignal } from '@angular/core/rxjs-interop';
import type { About } from '@lithodex/contract';
import { Api } from '../data/api';
import { outcome } from '../data/outcome';
import { StateMark } from '../ui/state-mark';

/** Versions of what is running here. */
@Component({
  selector: 'lx-about-page',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [StateMark],
  template: `<div class="page">
    <h1>What is running here</h1>
    @if (result()?.failure; as f) {
      <div class="problem" role="alert">{{ f.message }}</div>
    }
    @if (result()?.value; as a) {
      <section class="sheet">
        <dl>
          <dt>Lithodex</dt>
          <dd class="num">{{ a.version }}</dd>
          <dt>Tables</dt>
          <dd class="num">{{ a.schema }}</dd>
          <dt>Database</dt>
          <dd class="num">{{ a.database }}</dd>
          <dt>Node.js</dt>
          <dd class="num">{{ a.node }}</dd>
          <dt>System</dt>
          <dd class="num">{{ a.system }}</dd>
          <dt>Zone</dt>
          <dd>{{ a.zone }}</dd>
          <dt>Reached by</dt>
          <dd>{{ a.encrypted ? 'HTTPS' : 'HTTP, unless a proxy in front speaks HTTPS' }}</dd>
          <dt>Movers</dt>
          <dd>
            @for (m of a.movers; track m.name) {
              <div>
                <lx-mark [state]="m.current ? 'fine' : 'fault'" /> {{ m.name }}
                @if (!m.current) {
                  <span class="f">of another version: start it again with this one</span>
                }
              </div>
            } @empty {
              <span class="mute">none answers</span>
            }
            <div class="mute small">Messages to movers: version {{ a.moverLanguage }}.</div>
          </dd>
        </dl>
      </section>
    }
  </div>`,
  styles: `
    .sheet {
      max-width: 640px;
      padding: 12px 18px;
    }
    dl {
      display: grid;
      grid-template-columns: 120px 1fr;
      gap: 8px 14px;
      margin: 0;
    }
    dt {
      color: var(--ink-2);
      font-weight: 400;
    }
    dd {
      margin: 0;
      overflow-wrap: anywhere;
    }
  `,
})
export class AboutPage {
  protected readonly result = toSignal(inject(Api).call('about').pipe(outcome<About>()));
}
