import { NgTemplateOutlet } from '@angular/common';
import { ChangeDetectionStrategy, Component, computed, effect, signal, untracked } from '@angular/core';
import { FormsModule } from '@angular/forms';
import { RouterLink } from '@angular/router';
import type { BodyInput } from '@lithodex/contract';
import type { TenantService } from '@lithodex/kinds';
import { formatPipes } from '../ui/format-pipes';
import { Slot, type SlotOption } from '../ui/slot';
import { ConnectedSystem } from './connected-system';
import { ReadBy } from './read-by';
import { addressOf, emptyFields, fieldsOf, lacks, secretsOf, type ServiceFields, type TenantFields } from './tenant-form';
import { serviceSteps } from './tenant-steps';
import { TestedRights } from './tested-rights';

/** The connection to an office tenant: its services side by side, tested one by one, with what has to be prepared for each. */
@Component({
  selector: 'lx-tenant-page',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [FormsModule, NgTemplateOutlet, ReadBy, RouterLink, Slot, TestedRights, ...formatPipes],
  templateUrl: './tenant-page.html',
  styleUrls: ['./connection-page.scss', './tenant-page.scss'],
})
export class TenantPage extends ConnectedSystem {
  protected readonly authority = signal('');
  /** What stands in the fields of the services. */
  protected f: TenantFields = emptyFields();
  private readonly version = signal(0);
  protected readonly lack = computed(() => {
    this.version();
    return this.name().trim() === '' ? 'Say what it is called here.' : lacks(this.f);
  });
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
  protected readonly asBefore = computed(() => (this.known() ? 'as until now' : ''));

  constructor() {
    super();
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

  protected said(): Pick<BodyInput<'addSystem'>, 'address' | 'secret'> {
    return { address: addressOf(this.f, this.authority()), secret: secretsOf(this.f) };
  }

  protected ready(): boolean {
    return this.lack() === '';
  }
}
