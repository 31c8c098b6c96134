import { ChangeDetectionStrategy, Component, computed, inject, input, linkedSignal, output, signal } from '@angular/core';
import { FormsModule } from '@angular/forms';
import { reportNames, reportTitles, type BodyInput, type Notice, type NoticeAbout, type Policy } from '@lithodex/contract';
import type { Observable } from 'rxjs';
import { Api, type ApiFailure } from '../data/api';
import { FormDialog } from '../ui/form-dialog';

const fresh: BodyInput<'addNotice'> = {
  name: '',
  about: { what: 'matters', level: 'fault' },
  way: { by: 'mail', to: [] },
  paused: false,
};
const kinds = [
  { what: 'matters', word: 'what comes to need a person' },
  { what: 'runs', word: 'runs that end' },
  { what: 'digest', word: 'the night, once a day' },
  { what: 'report', word: 'a report' },
] as const;
const begin: Record<NoticeAbout['what'], NoticeAbout> = {
  matters: { what: 'matters', level: 'fault' },
  runs: { what: 'runs', policyId: null, outcome: 'trouble' },
  digest: { what: 'digest', at: '07:00' },
  report: { what: 'report', report: 'success', every: 'week', at: '07:00' },
};

/** Says who is told of what, in one sentence. */
@Component({
  selector: 'lx-notice-form',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [FormsModule, FormDialog],
  template: `<lx-form-dialog [heading]="notice() ? 'Change a notice' : 'Tell somebody'" (closed)="closed.emit()">
    <form (ngSubmit)="save()">
      <label
        >Name
        <input class="field wide" name="name" required maxlength="120" [ngModel]="body().name" (ngModelChange)="set({ name: $event })"
      /></label>
      @let about = body().about;
      @let way = body().way;
      <div class="line">
        Tell of
        <select class="field" name="what" aria-label="What" [ngModel]="about.what" (ngModelChange)="set({ about: begin[kind($event)] })">
          @for (k of kinds; track k.what) {
            <option [value]="k.what">{{ k.word }}</option>
          }
        </select>
        @switch (about.what) {
          @case ('matters') {
            , if it is
            <select class="field" name="level" aria-label="Level" [ngModel]="about.level" (ngModelChange)="say({ level: $event })">
              <option value="fault">a fault</option>
              <option value="warning">a fault or a warning</option>
            </select>
          }
          @case ('runs') {
            of
            <select
              class="field"
              name="policy"
              aria-label="Policy"
              [ngModel]="about.policyId ?? 0"
              (ngModelChange)="say({ policyId: +$event || null })"
            >
              <option [value]="0">any policy</option>
              @for (p of policies(); track p.id) {
                <option [value]="p.id">{{ p.body.name }}</option>
              }
            </select>
            <select class="field" name="outcome" aria-label="Outcome" [ngModel]="about.outcome" (ngModelChange)="say({ outcome: $event })">
              <option value="trouble">that did not end well</option>
              <option value="well">that ended well</option>
              <option value="any">however they ended</option>
            </select>
          }
          @case ('report') {
            <select class="field" name="report" aria-label="Report" [ngModel]="about.report" (ngModelChange)="say({ report: $event })">
              @for (r of reports; track r) {
                <option [value]="r">{{ titles[r] }}</option>
              }
            </select>
            <select class="field" name="every" aria-label="How often" [ngModel]="about.every" (ngModelChange)="say({ every: $event })">
              <option value="week">every Monday</option>
              <option value="month">on the first of the month</option>
            </select>
          }
        }
        @if (about.what === 'digest' || about.what === 'report') {
          at
          <input
            class="field t num"
            name="at"
            aria-label="Time"
            placeholder="07:00"
            maxlength="5"
            [ngModel]="about.at"
            (ngModelChange)="say({ at: $event })"
          />
        }
      </div>
      <div class="line">
        by
        <select class="field" name="by" aria-label="By" [ngModel]="way.by" (ngModelChange)="goBy($event)">
          <option value="mail">mail to</option>
          <option value="webhook">a call of the address</option>
        </select>
        @if (way.by === 'mail') {
          <input
            class="field wide"
            name="to"
            aria-label="Addresses"
            placeholder="ops@kelmar.example, …"
            required
            [ngModel]="way.to.join(', ')"
            (ngModelChange)="mailTo($event)"
          />
        } @else {
          <input
            class="field wide"
            name="url"
            aria-label="Address"
            placeholder="https://…"
            required
            [ngModel]="way.url"
            (ngModelChange)="set({ way: { by: 'webhook', url: $event } })"
          />
        }
      </div>
      @if (way.by === 'webhook') {
        <label>
          Secret it is signed with
          <input
            class="field wide"
            name="secret"
            type="password"
            autocomplete="off"
            minlength="16"
            [placeholder]="notice()?.signed ? 'kept; type to replace it' : 'none'"
            [ngModel]="body().secret ?? ''"
            (ngModelChange)="set({ secret: $event || undefined })"
        /></label>
        <p class="small mute m-0">
          It gets JSON by POST. With a secret, x-lithodex-signature carries “sha256=” and the HMAC of the body in hex. Another address loses
          the secret that is kept.
        </p>
      }
      <label class="tick"
        ><input type="checkbox" name="paused" [ngModel]="body().paused" (ngModelChange)="set({ paused: $event })" /> Paused: nothing is
        sent, and what happens meanwhile is not told later</label
      >
      @if (problem()) {
        <div class="problem" role="alert">{{ problem() }}</div>
      }
      <div class="row-line">
        <button type="submit" class="act go">{{ notice() ? 'Change it' : 'Tell them from now on' }}</button>
      </div>
    </form>
  </lx-form-dialog>`,
  styles: `
    form {
      display: flex;
      flex-direction: column;
      gap: 12px;
    }
    .line {
      display: flex;
      flex-wrap: wrap;
      gap: 6px;
      align-items: center;
    }
    .wide {
      min-width: 320px;
    }
    .t {
      width: 72px;
    }
  `,
})
export class NoticeForm {
  private readonly api = inject(Api);
  readonly notice = input<Notice | null>(null);
  readonly policies = input<readonly Policy[]>([]);
  readonly closed = output();
  readonly saved = output();
  protected readonly kinds = kinds;
  protected readonly begin = begin;
  protected readonly reports = reportNames;
  protected readonly titles = reportTitles;
  protected readonly problem = signal('');
  private readonly known = computed((): BodyInput<'addNotice'> => {
    const n = this.notice();
    return n ? { name: n.name, about: n.about, way: n.way, paused: n.paused } : fresh;
  });
  protected readonly body = linkedSignal(() => this.known());

  protected kind(what: string): NoticeAbout['what'] {
    return what as NoticeAbout['what'];
  }

  protected set(part: Partial<BodyInput<'addNotice'>>): void {
    this.body.update((body) => ({ ...body, ...part }));
  }

  /** Changes a part of what it tells of. */
  protected say(part: Record<string, unknown>): void {
    this.body.update((body) => ({ ...body, about: { ...body.about, ...part } }));
  }

  protected goBy(by: string): void {
    this.set({ way: by === 'mail' ? { by: 'mail', to: [] } : { by: 'webhook', url: '' } });
  }

  protected mailTo(text: string): void {
    this.set({
      way: {
        by: 'mail',
        to: text
          .split(/[,;\s]+/)
          .map((a) => a.trim())
          .filter(Boolean),
      },
    });
  }

  protected save(): void {
    this.problem.set('');
    const notice = this.notice();
    const body = this.body();
    const saving: Observable<unknown> = notice
      ? this.api.call('changeNotice', { id: notice.id, body })
      : this.api.call('addNotice', { body });
    saving.subscribe({
      next: () => {
        this.saved.emit();
      },
      error: (failure: ApiFailure) => {
        this.problem.set(failure.message);
      },
    });
  }
}
