import { ChangeDetectionStrategy, Component, inject } from '@angular/core';
import { RouterLink, RouterLinkActive } from '@angular/router';
import { Session } from '../data/session';

/** The name of the place and what is in it. */
@Component({
  selector: 'lx-trust-head',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [RouterLink, RouterLinkActive],
  template: `<h1>Trust</h1>
    <nav aria-label="Within Trust">
      <a routerLink="/trust" routerLinkActive="on" [routerLinkActiveOptions]="exact" ariaCurrentWhenActive="page">What changed</a>
      <a routerLink="/trust/scans" routerLinkActive="on" ariaCurrentWhenActive="page">What was scanned</a>
      <a routerLink="/trust/sensitive" routerLinkActive="on" ariaCurrentWhenActive="page">What is sensitive</a>
      <a routerLink="/trust/drills" routerLinkActive="on" ariaCurrentWhenActive="page">Drills</a>
      <a routerLink="/trust/strike" routerLinkActive="on" ariaCurrentWhenActive="page">Strike it out</a>
      @if (session.audits()) {
        <a routerLink="/trust/acts" routerLinkActive="on" ariaCurrentWhenActive="page">Who did what</a>
        <a routerLink="/trust/people" routerLinkActive="on" ariaCurrentWhenActive="page">People and signing in</a>
        <a routerLink="/trust/tokens" routerLinkActive="on" ariaCurrentWhenActive="page">Tokens</a>
      }
    </nav>
    <span class="grow"></span><ng-content />`,
  styles: `
    :host {
      display: flex;
      gap: 14px;
      align-items: center;
    }
    nav {
      display: flex;
      flex: none;
      gap: 14px;
      white-space: nowrap;
    }
    nav a {
      padding: 3px 0;
      font-weight: 600;
      border-bottom: 2px solid transparent;
    }
    nav a.on {
      color: var(--ink);
      border-bottom-color: var(--ink);
    }
  `,
})
export class TrustHead {
  protected readonly session = inject(Session);
  protected readonly exact = { paths: 'exact', queryParams: 'ignored', matrixParams: 'ignored', fragment: 'ignored' } as const;
}
