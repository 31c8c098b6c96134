import { ChangeDetectionStrategy, Component, computed, inject, input, linkedSignal, output, signal } from '@angular/core';
import { FormsModule } from '@angular/forms';
import type { BodyInput, Share } from '@lithodex/contract';
import type { Observable } from 'rxjs';
import { Api, type ApiFailure } from '../data/api';
import { FormDialog } from '../ui/form-dialog';

type Address = BodyInput<'addShare'>['address'];

/** Asks where a share is and what opens it: it is kept once it was tried. */
@Component({
  selector: 'lx-share-form',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [FormsModule, FormDialog],
  template: `<lx-form-dialog [heading]="share() ? 'Change a share' : 'Keep a share'" (closed)="closed.emit()">
    <form (ngSubmit)="save()">
      <label
        >Name <input class="field wide" name="name" required maxlength="120" [ngModel]="name()" (ngModelChange)="name.set($event)"
      /></label>
      <label
        >Protocol
        <select class="field" name="kind" [ngModel]="kind()" (ngModelChange)="kind.set($event)">
          <option value="smb">SMB 3, encrypted</option>
          <option value="webdav">WebDAV</option>
        </select>
      </label>
      @if (kind() === 'smb') {
        <label
          >Server
          <input class="field wide" name="host" required placeholder="files.example" [ngModel]="host()" (ngModelChange)="host.set($event)"
        /></label>
        <label
          >Share
          <input class="field wide" name="share" required placeholder="returned" [ngModel]="named()" (ngModelChange)="named.set($event)"
        /></label>
      } @else {
        <label
          >Address
          <input
            class="field wide"
            name="url"
            required
            placeholder="https://drive.example/dav"
            [ngModel]="url()"
            (ngModelChange)="url.set($event)"
        /></label>
      }
      <label
        >Account <input class="field wide" name="account" autocomplete="off" [ngModel]="account()" (ngModelChange)="account.set($event)"
      /></label>
      <label
        >Password
        <input
          class="field wide"
          name="password"
          type="password"
          autocomplete="new-password"
          [placeholder]="share() ? 'as it is' : ''"
          [ngModel]="password()"
          (ngModelChange)="password.set($event)"
      /></label>
      <p class="mute m-0">
        A folder is made there and taken away again before it is kept. What opens it is kept sealed and shown to nobody.
      </p>
      @if (problem()) {
        <div class="problem" role="alert">{{ problem() }}</div>
      }
      <div>
        <button type="submit" class="act go" [class.held]="!complete()" [disabled]="!complete() || busy()">
          {{ busy() ? 'Trying it …' : 'Try and keep it' }}
        </button>
      </div>
    </form>
  </lx-form-dialog>`,
  styles: 'form { display: grid; gap: 10px; } .wide { width: 100%; }',
})
export class ShareForm {
  private readonly api = inject(Api);
  /** The one that is changed; undefined for a new one. */
  readonly share = input<Share>();
  readonly closed = output();
  readonly kept = output();
  private readonly address = computed(() => this.share()?.address);
  protected readonly name = linkedSignal(() => this.share()?.name ?? '');
  protected readonly kind = linkedSignal<Address['kind']>(() => this.address()?.kind ?? 'smb');
  protected readonly host = linkedSignal(() => {
    const address = this.address();
    return address?.kind === 'smb' ? (address.port === 445 ? address.host : `${address.host}:${address.port}`) : '';
  });
  protected readonly named = linkedSignal(() => {
    const address = this.address();
    return address?.kind === 'smb' ? address.share : '';
  });
  protected readonly url = linkedSignal(() => {
    const address = this.address();
    return address?.kind === 'webdav' ? address.url : '';
  });
  protected readonly account = linkedSignal(() => this.share()?.account ?? '');
  protected readonly password = signal('');
  protected readonly problem = signal('');
  protected readonly busy = signal(false);
  protected readonly complete = computed(
    () =>
      this.name().trim() !== '' &&
      (this.kind() === 'smb' ? this.host().trim() !== '' && this.named().trim() !== '' : this.url().trim() !== ''),
  );

  private addressNow(): Address {
    if (this.kind() === 'webdav') return { kind: 'webdav', url: this.url().trim() };
    const [, host, port] = /^(.*?)(?::(\d+))?$/.exec(this.host().trim())!;
    return { kind: 'smb', host: host!, port: port ? Number(port) : 445, share: this.named().trim() };
  }

  protected save(): void {
    if (!this.complete()) return;
    this.busy.set(true);
    this.problem.set('');
    const share = this.share();
    const asItIs = share !== undefined && this.password() === '' && this.account() === share.account;
    const opener = asItIs ? null : { account: this.account(), password: this.password() };
    const body = { name: this.name().trim(), address: this.addressNow(), opener };
    const saved: Observable<unknown> = share ? this.api.call('changeShare', { id: share.id, body }) : this.api.call('addShare', { body });
    saved.subscribe({
      next: () => {
        this.kept.emit();
      },
      error: (f: ApiFailure) => {
        this.busy.set(false);
        this.problem.set(f.message);
      },
    });
  }
}
