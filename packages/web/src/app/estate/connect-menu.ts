import { ChangeDetectionStrategy, Component } from '@angular/core';
import { RouterLink } from '@angular/router';
import { NgbDropdownModule } from '@ng-bootstrap/ng-bootstrap/dropdown';

const ways = [
  { label: 'Connect a source', what: 'a folder of a server, or all of it', to: '/estate', query: { connect: 'yes' } },
  { label: 'Connect a platform', what: 'virtual machines, with their disks', to: '/estate/platforms/new', query: {} },
  {
    label: 'Connect a cloud',
    what: 'machines there, and room for machines from here',
    to: '/estate/platforms/new',
    query: { family: 'cloud' },
  },
  { label: 'Connect a database server', what: 'databases, to the second', to: '/estate/systems/new', query: {} },
  { label: 'Connect an office tenant', what: 'mail, calendars, drives, sites, chats', to: '/estate/tenants/new', query: {} },
  { label: 'Connect a cluster', what: 'applications in containers, with their volumes', to: '/estate/clusters/new', query: {} },
  { label: 'Connect an object storage', what: 'buckets, by the S3 protocol', to: '/estate/storages/new', query: {} },
  { label: 'Connect a file server', what: 'network shares, over SMB', to: '/estate/file-servers/new', query: {} },
] as const;

/** What can be connected, in one place. */
@Component({
  selector: 'lx-connect-menu',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [NgbDropdownModule, RouterLink],
  template: `<span ngbDropdown container="body" placement="bottom-end">
    <button type="button" class="act go" ngbDropdownToggle>Connect …</button>
    <span ngbDropdownMenu class="menu">
      @for (w of ways; track w.label) {
        <a ngbDropdownItem [routerLink]="w.to" [queryParams]="w.query"
          >{{ w.label }} <small class="mute d-block">{{ w.what }}</small></a
        >
      }
    </span>
  </span>`,
})
export class ConnectMenu {
  protected readonly ways = ways;
}
