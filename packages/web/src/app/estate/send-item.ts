import { ChangeDetectionStrategy, Component, inject, input, linkedSignal, signal } from '@angular/core';
import { FormsModule } from '@angular/forms';
import { Api, type ApiFailure } from '../data/api';

/** One item of a point, sent by mail. */
@Component({
  selector: 'lx-send-item',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [FormsModule],
  template: `@if (!open()) {
      <button type="button" class="act sm" (click)="open.set(true)">Send by mail</button>
    } @else if (sent()) {
      <div class="small" role="status">Sent to {{ sent() }}.</div>
    } @else {
      <form (ngSubmit)="send()">
        <label>To<input class="field" name="to" type="email" maxlength="200" [(ngModel)]="to" placeholder="somebody@example.org" /></label>
        <label>What you want to say with it<input class="field" name="words" maxlength="500" [(ngModel)]="words" /></label>
        @if (problem()) {
          <div class="problem" role="alert">{{ problem() }}</div>
        }
        <div class="row-line">
          <button type="submit" class="act go sm" [disabled]="busy() || !to().includes('@') || words().trim().length < 3">Send it</button>
          <button type="button" class="plain small" (click)="open.set(false)">don’t</button>
          <span class="mute small">At most 15 MiB; that you sent it is in the audit trail.</span>
        </div>
      </form>
    }`,
  styles: `
    :host {
      display: block;
      margin-top: 8px;
    }
    form,
    label {
      display: flex;
      flex-direction: column;
      gap: 6px;
    }
  `,
})
export class SendItem {
  private readonly api = inject(Api);
  readonly pointId = input.required<string>();
  readonly path = input.required<string>();
  protected readonly open = linkedSignal({ source: () => [this.pointId(), this.path()].join(), computation: () => false });
  protected readonly sent = linkedSignal({ source: () => [this.pointId(), this.path()].join(), computation: () => '' });
  protected readonly to = signal('');
  protected readonly words = signal('');
  protected readonly busy = signal(false);
  protected readonly problem = signal('');

  protected send(): void {
    const to = this.to().trim();
    this.busy.set(true);
    this.problem.set('');
    this.api.call('sendItem', { id: this.pointId(), body: { path: this.path(), to, words: this.words() } }).subscribe({
      next: () => {
        this.busy.set(false);
        this.sent.set(to);
      },
      error: (failure: ApiFailure) => {
        this.busy.set(false);
        this.problem.set(failure.message);
      },
    });
  }
}
