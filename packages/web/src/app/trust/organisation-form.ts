import { ChangeDetectionStrategy, Component, inject, input, output, signal, type OnInit } from '@angular/core';
import { FormsModule } from '@angular/forms';
import { roles, type Role, type SignInSettings } from '@lithodex/contract';
import { Api, type ApiFailure } from '../data/api';
import { FormDialog } from '../ui/form-dialog';
import { RemitChoice } from './remit-choice';

interface Group {
  group: string;
  role: Role;
  remit: readonly number[];
}

/** How people sign in by the organisation: where, and which of its groups become what. */
@Component({
  selector: 'lx-organisation-form',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [FormsModule, FormDialog, RemitChoice],
  template: `<lx-form-dialog heading="Sign in by the organisation (OpenID Connect)" (closed)="closed.emit()">
    <form (ngSubmit)="save()">
      <label>As the button says it<input class="field" name="name" [(ngModel)]="name" required /></label>
      <label>Address of the issuer<input class="field num" name="issuer" [(ngModel)]="issuer" placeholder="https://…" required /></label>
      <label>Client<input class="field num" name="client" [(ngModel)]="clientId" required /></label>
      <label
        >Secret of the client{{ known()?.secretKept ? ', left empty it stays as it is' : ''
        }}<input class="field num" type="password" name="secret" autocomplete="off" [(ngModel)]="clientSecret"
      /></label>
      <p class="m-0 small mute">There, name {{ back }} as the address that people come back to.</p>
      <label>Claim that names the groups<input class="field num" name="claim" [(ngModel)]="groupsClaim" required /></label>
      @for (g of groups(); track $index) {
        <span class="row-line"
          ><input
            class="field"
            [name]="'group' + $index"
            [(ngModel)]="g.group"
            placeholder="group"
            [attr.aria-label]="'Group ' + ($index + 1)"
          />
          is
          <select class="field" [name]="'role' + $index" [(ngModel)]="g.role" [attr.aria-label]="'Role of group ' + ($index + 1)">
            @for (r of roles; track r) {
              <option [value]="r">{{ r }}</option>
            }</select
          ><button type="button" class="plain small" (click)="remove($index)">remove</button></span
        >
        @if (g.role === 'clerk') {
          <lx-remit-choice [chosen]="g.remit" (chosenChange)="g.remit = $event" />
        }
      }
      <div><button type="button" class="act sm" (click)="add()">Another group</button></div>
      <span
        ><input type="checkbox" id="new-people" name="newPeople" [(ngModel)]="newPeople" />
        <label for="new-people">Whoever is in one of them gets an account when they come first</label></span
      >
      @if (problem()) {
        <div class="problem" role="alert">{{ problem() }}</div>
      }
      <div><button type="submit" class="act go" [disabled]="!name || !issuer || !clientId">Try it and keep it</button></div>
    </form>
  </lx-form-dialog>`,
  styles:
    'form { display: flex; flex-direction: column; gap: 10px; } form > label { display: flex; flex-direction: column; gap: 3px; font-size: 13px; font-weight: 600; }',
})
export class OrganisationForm implements OnInit {
  private readonly api = inject(Api);
  readonly known = input.required<SignInSettings['organisation']>();
  readonly saved = output();
  readonly closed = output();
  protected readonly roles = roles;
  protected readonly back = `${location.origin}/api/v1/session/organisation/back`;
  protected readonly groups = signal<Group[]>([{ group: '', role: 'operator', remit: [] }]);
  protected readonly problem = signal('');
  protected name = '';
  protected issuer = '';
  protected clientId = '';
  protected clientSecret = '';
  protected groupsClaim = 'groups';
  protected newPeople = true;

  ngOnInit(): void {
    const known = this.known();
    if (!known) return;
    Object.assign(this, {
      name: known.name,
      issuer: known.issuer,
      clientId: known.clientId,
      groupsClaim: known.groupsClaim,
      newPeople: known.newPeople,
    });
    this.groups.set(known.groups.map((g) => ({ ...g, remit: g.remit ?? [] })));
  }

  protected add(): void {
    this.groups.update((list) => [...list, { group: '', role: 'operator', remit: [] }]);
  }

  protected remove(at: number): void {
    this.groups.update((list) => list.filter((_, i) => i !== at));
  }

  protected save(): void {
    const { name, issuer, clientId, groupsClaim, newPeople } = this;
    const groups = this.groups()
      .filter((g) => g.group.trim())
      .map((g) => ({ group: g.group.trim(), role: g.role, remit: g.role === 'clerk' ? [...g.remit] : null }));
    const secret = this.clientSecret ? { clientSecret: this.clientSecret } : {};
    this.api.call('setOrganisation', { body: { name, issuer, clientId, groupsClaim, newPeople, groups, ...secret } }).subscribe({
      next: () => {
        this.saved.emit();
      },
      error: (f: ApiFailure) => {
        this.problem.set(f.message);
      },
    });
  }
}
