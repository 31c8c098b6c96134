import { NgTemplateOutlet } from '@angular/common';
import { ChangeDetectionStrategy, Component, computed, effect, inject, input, signal, untracked } from '@angular/core';
import { toSignal } from '@angular/core/rxjs-interop';
import { FormsModule } from '@angular/forms';
import { Router, RouterLink } from '@angular/router';
import type { BodyInput, SystemTest } from '@lithodex/contract';
import type { TenantService } from '@lithodex/kinds';
import { Api, type ApiFailure } from '../data/api';
import { outcome } from '../data/outcome';
import { Session } from '../data/session';
import { formatPipes } from '../ui/format-pipes';
import { Slot, type SlotOption } from '../ui/slot';
import { StateMark } from '../ui/state-mark';
import { ReadBy } from './read-by';
import { addressOf, emptyFields, fieldsOf, lacks, secretsOf, type ServiceFields, type TenantFields } from './tenant-form';
import { serviceSteps } from './tenant-steps';

/** The connection to an office tenant: its services side by side, tested one by one, with what has to be prepared for each. */
@Component({
  selector: 'lx-tenant-page',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [FormsModule, NgTemplateOutlet, ReadBy, RouterLink, Slot, StateMark, ...formatPipes],
  templateUrl: './tenant-page.html',
  styleUrls: ['./connection-page.scss', './tenant-page.scss'],
})
export class TenantPage {
  private readonly api = inject(Api);
  private readonly router = inject(Router);
  protected readonly session = inject(Session);
  /** Of the source, or `new`. */
  readonly id = input.required<string>();
  private readonly listed = toSignal(this.api.call('listSystems').pipe(outcome()));
  protected readonly known = computed(() => this.listed()?.value?.rows.find((s) => String(s.id) === this.id()));
  protected readonly name = signal('');
  protected readonly location = signal('');
  protected readonly authority = signal('');
  protected readonly readBy = signal<string | null>(null);
  /** What stands in the fields of the services. */
  protected f: TenantFields = emptyFields();
  private readonly version = signal(0);
  protected readonly lack = computed(() => {
    this.version();
    return this.name().trim() === '' ? 'Say what it is called here.' : lacks(this.f);
  });
  protected readonly tested = signal<SystemTest | undefined>(undefined);
  protected readonly problem = signal('');
  protected readonly busy = signal(false);
  /** The service that is being filled in. */
  protected readonly shown = signal<TenantService>('people');
  protected readonly steps = serviceSteps;
  protected readonly plain = ['groupware', 'drives', 'sites'] as const;
  protected readonly examples = {
    groupware: 'https://calendar.harbour.example/{login}/',
    drives: 'https://drive.harbour.example/dav/{login}/',
    sites: 'https://sites.harbour.example/dav/',
  } as const;
  protected readonly lists: SlotOption<TenantFields['people']['by']>[] = [
    { value: 'scim', label: 'by SCIM 2.0' },
    { value: 'ldap', label: 'by LDAP' },
    { value: 'list', label: 'by hand', note: 'who is new is not found by itself' },
  ];
  protected readonly ways: SlotOption<TenantFields['mail']['encryption']>[] = [
    { value: 'tls', label: 'encrypted from the start' },
    { value: 'starttls', label: 'encrypted after STARTTLS' },
    { value: 'none', label: 'not encrypted', note: 'for servers on the same host or a network of their own' },
  ];
  protected readonly anyMissing = computed(() => (this.tested()?.needs ?? []).some((n) => n.missing));
  protected readonly asBefore = computed(() => (this.known() ? 'as until now' : ''));

  constructor() {
    effect(() => {
      const known = this.known();
      const address = known?.address;
      if (address?.kind !== 'tenant' || !known) return;
      untracked(() => {
        this.name.set(known.name);
        this.location.set(known.location);
        this.authority.set(address.authority ?? '');
        this.readBy.set(known.readBy);
        this.f = fieldsOf(address);
        this.changed();
      });
    });
  }

  protected fieldsOf(service: TenantService): ServiceFields {
    return this.f[service];
  }

  protected changed(): void {
    this.version.update((n) => n + 1);
    this.tested.set(undefined);
  }

  private body(): BodyInput<'addSystem'> {
    return {
      name: this.name().trim(),
      location: this.location().trim(),
      address: addressOf(this.f, this.authority()),
      readBy: this.readBy(),
      secret: secretsOf(this.f),
    };
  }

  protected test(): void {
    this.begin();
    this.api.call('testSystem', { body: { id: this.known()?.id ?? null, body: this.body() } }).subscribe({
      next: (tested) => {
        this.busy.set(false);
        this.tested.set(tested);
      },
      error: this.fail,
    });
  }

  protected save(): void {
    if (this.lack() !== '') return;
    this.begin();
    const known = this.known();
    const done = { next: () => void this.router.navigate(['/estate']), error: this.fail };
    if (known) this.api.call('changeSystem', { id: known.id, body: this.body() }).subscribe(done);
    else this.api.call('addSystem', { body: this.body() }).subscribe(done);
  }

  protected again(): void {
    const known = this.known();
    if (!known) return;
    this.begin();
    this.api.call('readSystem', { id: known.id }).subscribe({ next: () => void this.router.navigate(['/estate']), error: this.fail });
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
