import { ChangeDetectionStrategy, Component, inject, input, linkedSignal, output, signal } from '@angular/core';
import { FormsModule } from '@angular/forms';
import type { BodyInput, MailServer } from '@lithodex/contract';
import { Api, type ApiFailure } from '../data/api';
import { FormDialog } from '../ui/form-dialog';

type Body = BodyInput<'setMailServer'>;
const fresh: Body = { host: '', port: 587, security: 'starttls', account: '', from: '', links: '' };

/** Says how mail goes out. */
@Component({
  selector: 'lx-mail-server-form',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [FormsModule, FormDialog],
  template: `<lx-form-dialog heading="How mail goes out" (closed)="closed.emit()">
    <form (ngSubmit)="save()">
      <div class="row-line">
        <label
          >Server
          <input
            class="field"
            name="host"
            required
            placeholder="mail.kelmar.example"
            [ngModel]="body().host"
            (ngModelChange)="set({ host: $event })"
        /></label>
        <label
          >Port
          <input
            class="field n"
            name="port"
            type="number"
            min="1"
            max="65535"
            required
            [ngModel]="body().port"
            (ngModelChange)="set({ port: +$event })"
        /></label>
        <label
          >Encryption
          <select class="field" name="security" [ngModel]="body().security" (ngModelChange)="set({ security: $event })">
            <option value="starttls">required, after the greeting</option>
            <option value="tls">from the start</option>
            <option value="none">none: everybody between can read it</option>
          </select></label
        >
      </div>
      <div class="row-line">
        <label
          >Account
          <input
            class="field"
            name="account"
            autocomplete="off"
            placeholder="none"
            [ngModel]="body().account"
            (ngModelChange)="set({ account: $event })"
        /></label>
        <label
          >Password
          <input
            class="field"
            name="password"
            type="password"
            autocomplete="off"
            [placeholder]="server()?.passwordKept ? 'kept; type to replace it' : 'none'"
            [ngModel]="body().password ?? ''"
            (ngModelChange)="set({ password: $event || undefined })"
        /></label>
      </div>
      <label
        >Sent from
        <input
          class="field w"
          name="from"
          required
          placeholder="backup@kelmar.example"
          [ngModel]="body().from"
          (ngModelChange)="set({ from: $event })"
      /></label>
      <label
        >Links begin with
        <input class="field w" name="links" placeholder="no links" [ngModel]="body().links" (ngModelChange)="set({ links: $event })"
      /></label>
      @if (problem()) {
        <div class="problem" role="alert">{{ problem() }}</div>
      }
      <div class="row-line"><button type="submit" class="act go">Keep it</button></div>
    </form>
  </lx-form-dialog>`,
  styles: `
    form {
      display: flex;
      flex-direction: column;
      gap: 12px;
    }
    .n {
      width: 84px;
    }
    .w {
      min-width: 300px;
    }
  `,
})
export class MailServerForm {
  private readonly api = inject(Api);
  readonly server = input<MailServer | null>(null);
  readonly closed = output();
  readonly saved = output();
  protected readonly problem = signal('');
  protected readonly body = linkedSignal((): Body => {
    const server = this.server();
    if (!server) return fresh;
    const { host, port, security, account, from, links } = server;
    return { host, port, security, account, from, links };
  });

  protected set(part: Partial<Body>): void {
    this.body.update((body) => ({ ...body, ...part }));
  }

  protected save(): void {
    this.problem.set('');
    this.api.call('setMailServer', { body: this.body() }).subscribe({
      next: () => {
        this.saved.emit();
      },
      error: (failure: ApiFailure) => {
        this.problem.set(failure.message);
      },
    });
  }
}
