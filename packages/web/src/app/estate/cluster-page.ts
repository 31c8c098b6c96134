import { ChangeDetectionStrategy, Component, effect, signal, untracked } from '@angular/core';
import { FormsModule } from '@angular/forms';
import { RouterLink } from '@angular/router';
import type { BodyInput } from '@lithodex/contract';
import type { RewriteSet } from '@lithodex/kinds';
import { formatPipes } from '../ui/format-pipes';
import { ConnectedSystem } from './connected-system';
import { ReadBy } from './read-by';
import { RewriteRows } from './rewrite-rows';
import { TestedRights } from './tested-rights';

const listOf = (text: string) => text.split(/[\s,;]+/).filter(Boolean);

/** The connection to a container cluster, whose applications are protected, and what is rewritten when one comes to it. */
@Component({
  selector: 'lx-cluster-page',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [FormsModule, ReadBy, RewriteRows, RouterLink, TestedRights, ...formatPipes],
  templateUrl: './cluster-page.html',
  styleUrls: ['./connection-page.scss', './tenant-page.scss', './cluster-page.scss'],
})
export class ClusterPage extends ConnectedSystem {
  protected readonly endpoint = signal('');
  protected readonly token = signal('');
  protected readonly namespaces = signal('');
  protected readonly domains = signal('');
  protected readonly image = signal('debian:stable-slim');
  protected readonly authority = signal('');
  protected readonly sets = signal<readonly RewriteSet[]>([]);

  constructor() {
    super();
    effect(() => {
      const known = this.known();
      const address = known?.address;
      if (address?.kind !== 'application' || !known) return;
      untracked(() => {
        this.name.set(known.name);
        this.location.set(known.location);
        this.readBy.set(known.readBy);
        this.endpoint.set(address.endpoint);
        this.namespaces.set(address.namespaces.join('\n'));
        this.domains.set(address.domains.join('\n'));
        this.image.set(address.image);
        this.authority.set(address.authority ?? '');
        this.sets.set(address.rewrites);
      });
    });
  }

  protected said(): Pick<BodyInput<'addSystem'>, 'address' | 'secret'> {
    return {
      address: {
        kind: 'application',
        endpoint: this.endpoint().trim(),
        namespaces: listOf(this.namespaces()),
        domains: listOf(this.domains()),
        image: this.image().trim(),
        rewrites: this.sets().map(({ name, rewrites }) => ({ name: name.trim(), rewrites })),
        authority: this.authority().trim() || null,
      },
      secret: this.token().trim() || null,
    };
  }

  protected ready(): boolean {
    const said = this.name().trim() !== '' && this.image().trim() !== '' && this.sets().every((s) => s.name.trim() !== '');
    return said && /^https?:\/\/./.test(this.endpoint().trim()) && (this.token().trim() !== '' || this.known() !== undefined);
  }

  protected addSet(): void {
    this.sets.update((all) => [...all, { name: '', rewrites: [{ kind: '', path: '', from: '', to: '' }] }]);
  }
  protected change(index: number, now: Partial<RewriteSet>): void {
    this.sets.update((all) => all.map((s, i) => (i === index ? { ...s, ...now } : s)));
  }
  protected removeSet(index: number): void {
    this.sets.update((all) => all.filter((_, i) => i !== index));
  }
}
