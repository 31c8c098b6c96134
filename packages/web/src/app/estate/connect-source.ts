import { ChangeDetectionStrategy, Component, inject, output, signal } from '@angular/core';
import { FormsModule } from '@angular/forms';
import { Router } from '@angular/router';
import type { BodyInput, ConnectionTest } from '@lithodex/contract';
import { Api, type ApiFailure } from '../data/api';
import { FormDialog } from '../ui/form-dialog';
import { formatPipes } from '../ui/format-pipes';
import { StateMark } from '../ui/state-mark';
import { ReadBy } from './read-by';

/** Connects a folder of the mover's host: tested first, saved after. */
@Component({
  selector: 'lx-connect-source',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [FormsModule, FormDialog, ReadBy, StateMark, ...formatPipes],
  template: `<lx-form-dialog heading="Connect a source" (closed)="closed.emit()">
    <form (ngSubmit)="save()">
      <label>Name<input class="field" name="name" [(ngModel)]="name" placeholder="quay-1" cdkFocusInitial required /></label>
      <label
        >Folder on the mover<input
          class="field"
          name="folder"
          [(ngModel)]="folder"
          (ngModelChange)="tested.set(undefined)"
          placeholder="/srv/quay-1"
          required
      /></label>
      <div class="two">
        <label
          >Place <small>an unknown place counts as a warning</small
          ><input class="field" name="location" [(ngModel)]="location" placeholder="Server room"
        /></label>
        <label
          >Read with the rights of <small>empty: those of the mover</small
          ><input class="field" name="readAs" [(ngModel)]="readAs" (ngModelChange)="tested.set(undefined)" placeholder="backup"
        /></label>
      </div>
      <lx-read-by [mover]="readBy()" (moverChange)="readBy.set($event); tested.set(undefined)" />
      <label
        >Tags <small>separated by commas; policies can pick by tag</small
        ><input class="field" name="tags" [(ngModel)]="tags" placeholder="room: server-room"
      /></label>
      <label class="tick"
        ><input type="checkbox" name="cross" [(ngModel)]="cross" [disabled]="whole" /> also enter other file systems mounted below</label
      >
      <label class="tick"
        ><input type="checkbox" name="whole" [(ngModel)]="whole" /> it is a whole server, to be rebuilt on other hardware one day</label
      >
      @if (whole) {
        <div class="small mute">
          The folder is /, on a mover that runs on the server. Its disks, loader, kernels and network are told with every point; what its
          kernel makes up and what comes over a network stays out.
        </div>
      }
      @if (tested(); as t) {
        <div class="result">
          <div>
            <lx-mark [state]="t.ok ? (t.findings.length ? 'look' : 'fine') : 'stop'" />
            {{
              t.ok
                ? t.findings.length
                  ? 'It can be read, but not everything:'
                  : 'Everything looked at can be read.'
                : 'It can not be connected:'
            }}
            <span class="mute small">{{ t.looked | count }} entries looked at{{ t.complete ? '' : ', not all' }}</span>
          </div>
          @for (f of t.findings; track f.path + f.message) {
            <div class="finding">
              <span class="num">{{ f.path || '/' }}</span> {{ f.message }} <span class="mute">Needed {{ f.neededFor }}.</span>
            </div>
          }
        </div>
      }
      @if (problem()) {
        <div class="problem" role="alert">{{ problem() }}</div>
      }
      <div class="row-line">
        <button type="button" class="act" [disabled]="busy() || !folder" (click)="test()">Test the connection</button
        ><button type="submit" class="act go" [disabled]="busy() || !name || !folder">Connect</button
        ><span class="mute small">Nothing in the folder is changed.</span>
      </div>
    </form>
  </lx-form-dialog>`,
  styles: `
    form {
      display: flex;
      flex-direction: column;
      gap: 12px;
    }
    label {
      display: flex;
      flex-direction: column;
      gap: 3px;
      font-size: 13px;
      font-weight: 600;
    }
    label small {
      font-weight: 400;
      color: var(--ink-2);
    }
    .two {
      display: grid;
      grid-template-columns: 1fr 1fr;
      gap: 12px;
    }
    .two label,
    .tick {
      justify-content: space-between;
    }
    .tick {
      flex-direction: row;
      justify-content: flex-start;
      font-weight: 400;
      align-items: center;
      gap: 8px;
    }
    .result {
      border: 1px solid var(--line);
      border-radius: 8px;
      padding: 8px 12px;
      font-size: 13px;
      max-height: 180px;
      overflow: auto;
    }
    .finding {
      padding: 3px 0 0 22px;
    }
  `,
})
export class ConnectSource {
  private readonly api = inject(Api);
  private readonly router = inject(Router);
  readonly closed = output();
  protected name = '';
  protected folder = '';
  protected location = '';
  protected readAs = '';
  protected readonly readBy = signal<string | null>(null);
  protected tags = '';
  protected cross = false;
  protected whole = false;
  protected readonly tested = signal<ConnectionTest | undefined>(undefined);
  protected readonly problem = signal('');
  protected readonly busy = signal(false);

  private body(): BodyInput<'addSource'> {
    return {
      name: this.name.trim() || 'unnamed',
      folder: this.folder.trim(),
      location: this.location,
      readAs: this.readAs.trim() || null,
      crossFileSystems: this.cross,
      wholeServer: this.whole,
      readBy: this.readBy(),
      tags: this.tags
        .split(',')
        .map((t) => t.trim())
        .filter(Boolean),
    };
  }

  protected test(): void {
    this.busy.set(true);
    this.problem.set('');
    this.api.call('testSource', { body: this.body() }).subscribe({
      next: (t) => {
        this.busy.set(false);
        this.tested.set(t);
      },
      error: (f: ApiFailure) => {
        this.fail(f);
      },
    });
  }

  protected save(): void {
    this.busy.set(true);
    this.problem.set('');
    this.api.call('addSource', { body: this.body() }).subscribe({
      next: ({ workloadId }) => void this.router.navigate(['/estate', workloadId]),
      error: (f: ApiFailure) => {
        this.fail(f);
      },
    });
  }

  private fail(failure: ApiFailure): void {
    this.busy.set(false);
    this.problem.set(failure.message);
  }
}
