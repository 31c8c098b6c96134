import { ChangeDetectionStrategy, Component, computed, effect, inject, input, signal, untracked } from '@angular/core';
import { toSignal } from '@angular/core/rxjs-interop';
import { FormsModule } from '@angular/forms';
import { Router, RouterLink } from '@angular/router';
import type { BodyInput, PlatformTest } from '@lithodex/contract';
import { Api, type ApiFailure } from '../data/api';
import { outcome } from '../data/outcome';
import { Session } from '../data/session';
import { formatPipes } from '../ui/format-pipes';
import { Slot, type SlotOption } from '../ui/slot';
import { StateMark } from '../ui/state-mark';

type By = 'password' | 'certificate';

/** The connection to a virtualization platform: tested beside the form, saved after. */
@Component({
  selector: 'lx-platform-page',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [FormsModule, RouterLink, Slot, StateMark, ...formatPipes],
  template: `<div class="page">
    <div class="row-line">
      <h1>{{ known()?.name ?? (cloud() ? 'Connect a cloud' : 'Connect a platform') }}</h1>
      @if (known(); as p) {
        <span class="mute small"
          >{{ p.machines === 1 ? '1 machine' : p.machines + ' machines' }}, {{ p.readAt ? 'read ' : 'not read yet'
          }}{{ p.readAt | ago }}</span
        >
      }
      <span class="grow"></span><a class="act" routerLink="/estate">Back to the estate</a>
    </div>
    @if (known()?.trouble; as trouble) {
      <div class="problem" role="alert">{{ trouble }}</div>
    }
    <div class="two">
      <form class="sheet col" (ngSubmit)="save()">
        <label
          >Name<input
            class="field"
            name="name"
            [(ngModel)]="name"
            [placeholder]="cloud() ? 'Harbour cloud' : 'Harbour platform'"
            required
            [disabled]="!session.keeps()"
        /></label>
        <label
          >Address<input
            class="field num"
            name="endpoint"
            [(ngModel)]="endpoint"
            (ngModelChange)="tested.set(undefined)"
            [placeholder]="cloud() ? 'https://cloud.example' : 'https://platform.harbour.example'"
            required
            [disabled]="!session.keeps()"
        /></label>
        <div class="sentence">
          Sign in
          <lx-slot label="how to sign in" [options]="ways()" [value]="by()" (valueChange)="choose($event)" [disabled]="!session.keeps()" />
          @if (by() === 'keep') {
            <span class="mute">{{ known()?.account }}</span>
          }
        </div>
        @if (by() === 'password') {
          <div class="pair">
            <label
              >{{ cloud() ? 'Client' : 'Account'
              }}<input class="field" name="account" autocomplete="off" [(ngModel)]="account" (ngModelChange)="tested.set(undefined)"
            /></label>
            <label
              >{{ cloud() ? 'Its secret' : 'Password'
              }}<input
                class="field"
                name="password"
                type="password"
                autocomplete="new-password"
                [(ngModel)]="password"
                (ngModelChange)="tested.set(undefined)"
            /></label>
          </div>
          <p class="mute small m-0">
            {{
              cloud()
                ? 'A client of its own for this, with no more rights than the test names. Its secret goes to the address above only.'
                : 'Passwords end, and then every run of the night fails. A certificate lasts longer.'
            }}
          </p>
        } @else if (by() === 'certificate') {
          <label
            >Certificate, as text<textarea
              class="field num"
              rows="4"
              name="certificate"
              [(ngModel)]="certificate"
              (ngModelChange)="tested.set(undefined)"
            ></textarea>
          </label>
          <label
            >Its key, as text<textarea
              class="field num"
              rows="4"
              name="key"
              [(ngModel)]="key"
              (ngModelChange)="tested.set(undefined)"
            ></textarea>
          </label>
        }
        @if (!cloud()) {
          <div class="sentence">
            The data of whole machines goes
            <lx-slot
              label="way of the data"
              [options]="roads"
              [value]="way()"
              (valueChange)="way.set($event)"
              [disabled]="!session.keeps()"
            />.
          </div>
        }
        <p class="mute small m-0">What opens it is stored encrypted, and never sent back to a browser.</p>
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
              <span class="mute small" role="status">The platform is asked …</span>
            }
          </div>
        }
      </form>
      <aside class="sheet col">
        <h2>What the account may do</h2>
        @if (tested(); as t) {
          <div><lx-mark [state]="t.ok ? (anyMissing() ? 'look' : 'fine') : 'stop'" /> {{ t.message }}</div>
          @if (t.ok) {
            <div class="facts">
              <span
                >Signed in as<b>{{ t.account }}</b></span
              >
              <span
                >Machines<b>{{ t.machines }}</b></span
              >
              <span
                >Sign-in ends<b>{{ t.passwordEnds ? (t.passwordEnds | moment) : 'never' }}</b></span
              >
            </div>
            <ul>
              @for (n of t.needs; track n.right) {
                <li>
                  <lx-mark [state]="n.missing ? 'look' : 'fine'" /> <span [class.w]="n.missing">{{ n.right }}</span>
                  <span class="mute">{{ n.neededFor }}{{ n.missing ? ': missing' : '' }}</span>
                </li>
              }
            </ul>
          }
        } @else {
          <p class="mute m-0">
            Test the connection to see which rights the account has, and what each is needed for. Nothing is changed there.
          </p>
        }
      </aside>
    </div>
  </div>`,
  styleUrl: './connection-page.scss',
})
export class PlatformPage {
  private readonly api = inject(Api);
  private readonly router = inject(Router);
  protected readonly session = inject(Session);
  /** Of the source, or `new`. */
  readonly id = input.required<string>();
  /** Of one that is to be connected. */
  readonly family = input<string>();
  private readonly listed = toSignal(this.api.call('listPlatforms').pipe(outcome()));
  protected readonly known = computed(() => this.listed()?.value?.rows.find((p) => String(p.id) === this.id()));
  protected readonly cloud = computed(() => (this.known()?.family ?? this.family()) === 'cloud');
  protected readonly name = signal('');
  protected readonly endpoint = signal('');
  protected readonly account = signal('');
  protected readonly password = signal('');
  protected readonly certificate = signal('');
  protected readonly key = signal('');
  protected readonly by = signal<By | 'keep'>('password');
  protected readonly way = signal<'network' | 'straight'>('network');
  protected readonly roads: SlotOption<'network' | 'straight'>[] = [
    { value: 'network', label: 'over the network, through the platform' },
    { value: 'straight', label: 'straight between movers and storages they see', note: 'over the network where they see none' },
  ];
  protected readonly tested = signal<PlatformTest | undefined>(undefined);
  protected readonly problem = signal('');
  protected readonly busy = signal(false);
  protected readonly ways = computed((): SlotOption<By | 'keep'>[] => [
    ...(this.known() ? [{ value: 'keep' as const, label: 'as until now, as' }] : []),
    { value: 'password', label: this.cloud() ? 'as a client, by its secret' : 'by password' },
    ...(this.cloud() ? [] : [{ value: 'certificate' as const, label: 'by certificate' }]),
  ]);
  protected readonly anyMissing = computed(() => (this.tested()?.needs ?? []).some((n) => n.missing));

  constructor() {
    effect(() => {
      const known = this.known();
      if (!known) return;
      untracked(() => {
        this.name.set(known.name);
        this.endpoint.set(known.endpoint);
        this.by.set(known.trouble ? known.by : 'keep');
        this.account.set(known.account);
        this.way.set(known.way);
      });
    });
  }

  protected choose(by: By | 'keep'): void {
    this.by.set(by);
    this.tested.set(undefined);
  }

  protected ready(): boolean {
    if (!this.name().trim() || !/^https?:\/\/./.test(this.endpoint())) return false;
    const by = this.by();
    if (by === 'password') return this.account().trim() !== '' && this.password() !== '';
    return by === 'keep' || (this.certificate().includes('BEGIN') && this.key().includes('BEGIN'));
  }

  private body(): BodyInput<'addPlatform'> {
    const by = this.by();
    const opener =
      by === 'keep'
        ? null
        : by === 'password'
          ? { by, account: this.account(), password: this.password() }
          : { by, certificate: this.certificate(), key: this.key() };
    const endpoint = this.endpoint().trim().replace(/\/+$/, '');
    return { name: this.name().trim(), endpoint, opener, way: this.way(), family: this.cloud() ? 'cloud' : 'hosts' };
  }

  protected test(): void {
    this.begin();
    const body = { id: this.known()?.id ?? null, body: this.body() };
    this.api.call('testPlatform', { body }).subscribe({
      next: (tested) => {
        this.busy.set(false);
        this.tested.set(tested);
      },
      error: this.fail,
    });
  }

  protected save(): void {
    if (!this.ready()) return;
    this.begin();
    const known = this.known();
    const done = () => void this.router.navigate(['/estate'], { queryParams: known ? {} : { by: 'host', show: 'none' } });
    if (known) this.api.call('changePlatform', { id: known.id, body: this.body() }).subscribe({ next: done, error: this.fail });
    else this.api.call('addPlatform', { body: this.body() }).subscribe({ next: done, error: this.fail });
  }

  private begin(): void {
    this.busy.set(true);
    this.problem.set('');
  }

  private readonly fail = (failure: ApiFailure): void => {
    this.busy.set(false);
    this.problem.set(failure.message);
  };
}
