import { ChangeDetectionStrategy, Component, effect, signal, untracked } from '@angular/core';
import { FormsModule } from '@angular/forms';
import { RouterLink } from '@angular/router';
import type { BodyInput } from '@lithodex/contract';
import { formatPipes } from '../ui/format-pipes';
import { ConnectedSystem } from './connected-system';
import { ReadBy } from './read-by';
import { TestedRights } from './tested-rights';

const usualPort = 445;

/** The connection to a file server, whose shares are protected. */
@Component({
  selector: 'lx-file-server-page',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [FormsModule, ReadBy, RouterLink, TestedRights, ...formatPipes],
  templateUrl: './file-server-page.html',
  styleUrls: ['./connection-page.scss', './tenant-page.scss'],
})
export class FileServerPage extends ConnectedSystem {
  protected readonly host = signal('');
  protected readonly port = signal<number | null>(usualPort);
  protected readonly account = signal('');
  protected readonly password = signal('');
  /** Names of shares, one a line. */
  protected readonly named = signal('');
  protected readonly accessLists = signal(false);

  constructor() {
    super();
    effect(() => {
      const known = this.known();
      const address = known?.address;
      if (address?.kind !== 'share' || !known) return;
      untracked(() => {
        this.name.set(known.name);
        this.location.set(known.location);
        this.readBy.set(known.readBy);
        this.host.set(address.host);
        this.port.set(address.port);
        this.account.set(address.account);
        this.named.set(address.shares.join('\n'));
        this.accessLists.set(address.accessLists);
      });
    });
  }

  protected said(): Pick<BodyInput<'addSystem'>, 'address' | 'secret'> {
    return {
      address: {
        kind: 'share',
        host: this.host().trim(),
        port: this.port() ?? usualPort,
        account: this.account().trim(),
        shares: this.named()
          .split('\n')
          .map((line) => line.trim())
          .filter(Boolean),
        accessLists: this.accessLists(),
      },
      secret: this.password() || null,
    };
  }

  protected ready(): boolean {
    const said = [this.name(), this.host(), this.account()].every((text) => text.trim() !== '');
    return said && (this.password() !== '' || this.known() !== undefined);
  }
}
