import { ChangeDetectionStrategy, Component, effect, signal, untracked } from '@angular/core';
import { FormsModule } from '@angular/forms';
import { RouterLink } from '@angular/router';
import type { BodyInput } from '@lithodex/contract';
import { families, familyNames, type Family } from '../kinds/database-words';
import { formatPipes } from '../ui/format-pipes';
import { Slot, type SlotOption } from '../ui/slot';
import { StateMark } from '../ui/state-mark';
import { ConnectedSystem } from './connected-system';
import { FoundServers, type FoundServer } from './found-servers';
import { ReadBy } from './read-by';
import { Replicas, type ReplicasSaid } from './replicas';

/** The connection to a database server: tested beside the form, saved after. */
@Component({
  selector: 'lx-system-page',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [FormsModule, FoundServers, ReadBy, Replicas, RouterLink, Slot, StateMark, ...formatPipes],
  template: `<div class="page">
    <div class="row-line">
      <h1>{{ known()?.name ?? 'Connect a database server' }}</h1>
      @if (known(); as s) {
        <span class="mute small">{{ s.readAt ? 'read ' : 'not read yet' }}{{ s.readAt | ago }}</span>
        @for (w of s.workloads; track w.id) {
          <a class="small" [routerLink]="['/estate', w.id]">its points</a>
        }
      }
      <span class="grow"></span><a class="act" routerLink="/estate">Back to the estate</a>
    </div>
    @if (known()?.trouble; as trouble) {
      <div class="problem" role="alert">{{ trouble }}</div>
    }
    <div class="two">
      <form class="sheet col" (ngSubmit)="save()">
        <div class="pair">
          <label
            >Name<input class="field" name="name" [(ngModel)]="name" placeholder="berths-a" required [disabled]="!session.keeps()"
          /></label>
          <label
            >Place <small>an unknown place counts as a warning</small
            ><input class="field" name="location" [(ngModel)]="location" placeholder="Server room" [disabled]="!session.keeps()"
          /></label>
        </div>
        <div class="sentence">
          It is a
          <lx-slot
            label="family"
            [options]="kinds"
            [value]="family()"
            (valueChange)="choose($event)"
            [disabled]="!session.keeps() || known() !== undefined"
          />
          server.
        </div>
        <div class="pair wide">
          <label
            >Host<input
              class="field num"
              name="host"
              [(ngModel)]="host"
              (ngModelChange)="tested.set(undefined)"
              placeholder="berths-a.harbour.example"
              required
              [disabled]="!session.keeps()"
          /></label>
          <label
            >Port<input
              class="field num"
              type="number"
              min="1"
              max="65535"
              name="port"
              [(ngModel)]="port"
              (ngModelChange)="tested.set(undefined)"
              required
              [disabled]="!session.keeps()"
          /></label>
        </div>
        <div class="pair">
          <label
            >Account<input
              class="field"
              name="account"
              autocomplete="off"
              [(ngModel)]="account"
              (ngModelChange)="tested.set(undefined)"
              [disabled]="!session.keeps()"
          /></label>
          <label
            >Password
            @if (known()) {
              <small>empty: as until now</small>
            }
            <input
              class="field"
              name="password"
              type="password"
              autocomplete="new-password"
              [(ngModel)]="password"
              (ngModelChange)="tested.set(undefined)"
              [disabled]="!session.keeps()"
          /></label>
        </div>
        <div class="sentence">
          The connection is
          <lx-slot
            label="encryption"
            [options]="ways"
            [value]="encrypted()"
            (valueChange)="encrypted.set($event); tested.set(undefined)"
            [disabled]="!session.keeps()"
          />.
        </div>
        @if (encrypted()) {
          <label
            >Certificate authority, as text <small>empty: those the mover's system trusts</small
            ><textarea
              class="field num"
              rows="3"
              name="authority"
              [(ngModel)]="authority"
              (ngModelChange)="tested.set(undefined)"
            ></textarea>
          </label>
        }
        <lx-replicas [replicas]="replicas()" (replicasChange)="replicas.set($event); tested.set(undefined)" [disabled]="!session.keeps()" />
        <lx-read-by [mover]="readBy()" (moverChange)="readBy.set($event); tested.set(undefined)" [disabled]="!session.keeps()" />
        <p class="mute small m-0">The password is stored encrypted, sent to the addresses above only, and never to a browser.</p>
        @if (problem()) {
          <div class="problem" role="alert">{{ problem() }}</div>
        }
        @if (session.keeps()) {
          <div class="row-line">
            <button type="button" class="act" [disabled]="busy() || !ready()" (click)="test()">Test the connection</button>
            <button type="submit" class="act go" [class.held]="!ready()" [disabled]="busy() || !ready()">
              {{ known() ? 'Save the connection' : 'Connect' }}
            </button>
            @if (busy()) {
              <span class="mute small" role="status">The server is asked …</span>
            }
          </div>
        }
      </form>
      <aside class="sheet col">
        <h2>What the account may do</h2>
        @if (tested(); as t) {
          <div><lx-mark [state]="t.ok ? (anyMissing() ? 'look' : 'fine') : 'stop'" /> {{ t.message }}</div>
          @for (remark of t.remarks; track remark) {
            <div class="w"><lx-mark state="look" /> {{ remark }}</div>
          }
          <div class="facts">
            <span
              >Databases<b>{{ t.found }}</b></span
            >
            <span
              >Sign-in ends<b>{{ t.credentialEnds ? (t.credentialEnds | moment) : 'never' }}</b></span
            >
          </div>
          <ul>
            @for (n of t.needs; track n.right) {
              <li>
                <lx-mark [state]="n.missing ? 'look' : 'fine'" /> <span class="num" [class.w]="n.missing">{{ n.right }}</span>
                <span class="mute">{{ n.neededFor }}{{ n.missing ? ': missing' : '' }}</span>
              </li>
            }
          </ul>
        } @else {
          <p class="mute m-0">
            Test the connection to see which rights the account has, and what each is needed for. Nothing is changed on the server.
          </p>
        }
        @if (id() === 'new') {
          <lx-found-servers (chosen)="take($event)" />
        }
      </aside>
    </div>
  </div>`,
  styleUrl: './connection-page.scss',
})
export class SystemPage extends ConnectedSystem {
  protected readonly host = signal('');
  protected readonly family = signal<Family>('mariadb');
  protected readonly port = signal(families.mariadb.port);
  protected readonly account = signal('');
  protected readonly password = signal('');
  protected readonly encrypted = signal(false);
  protected readonly authority = signal('');
  protected readonly replicas = signal<ReplicasSaid | undefined>(null);
  protected readonly kinds: SlotOption<Family>[] = familyNames.map((value) => ({ value, label: families[value].label }));
  protected readonly ways: SlotOption<boolean>[] = [
    { value: false, label: 'not encrypted', note: 'for servers on the same host or a network of their own' },
    { value: true, label: 'encrypted, and the certificate checked' },
  ];

  constructor() {
    super();
    effect(() => {
      const known = this.known();
      if (!known) return;
      untracked(() => {
        const { address } = known;
        if (address.kind !== 'database') return;
        this.name.set(known.name);
        this.location.set(known.location);
        this.family.set(address.family);
        this.host.set(address.host);
        this.port.set(address.port);
        this.account.set(address.account);
        this.encrypted.set(address.encrypted);
        this.authority.set(address.authority ?? '');
        this.readBy.set(known.readBy);
        this.replicas.set(address.replicas ?? null);
      });
    });
  }

  /** A server inside a machine: what is known of it is filled in. */
  protected take({ workload, family, location }: FoundServer): void {
    this.name.set(workload.name);
    this.host.set(workload.name);
    this.location.set(location);
    this.choose(family);
  }

  /** Another family usually listens on another port. */
  protected choose(family: Family): void {
    if (this.port() === families[this.family()].port) this.port.set(families[family].port);
    this.family.set(family);
    this.tested.set(undefined);
  }

  protected ready(): boolean {
    const said = [this.name(), this.host(), this.account()].every((text) => text.trim() !== '');
    return said && this.replicas() !== undefined && Number.isInteger(this.port()) && (this.password() !== '' || this.known() !== undefined);
  }

  protected said(): Pick<BodyInput<'addSystem'>, 'address' | 'secret'> {
    return {
      address: {
        kind: 'database',
        family: this.family(),
        host: this.host().trim(),
        port: this.port(),
        account: this.account().trim(),
        encrypted: this.encrypted(),
        authority: (this.encrypted() && this.authority().trim()) || null,
        replicas: this.replicas(),
      },
      secret: this.password() || null,
    };
  }

  protected override lands([first]: readonly number[]): number | undefined {
    return first;
  }
}
