import { ChangeDetectionStrategy, Component, computed, input, linkedSignal, output } from '@angular/core';
import { FormsModule } from '@angular/forms';
import type { DatabaseAddress } from '@lithodex/kinds';
import { formatDuration } from '@lithodex/core';
import { Slot, type SlotOption } from '../ui/slot';

/** Replicas that are read in the place of a server; null where it is read itself. */
export type ReplicasSaid = NonNullable<DatabaseAddress['replicas']> | null;

type Members = NonNullable<ReplicasSaid>['members'];

const usualBehind = 60;
const mostMembers = 8;

/** Replicas as somebody writes them: "berths-b:3306, berths-c:3306". Null for what is none. */
export function replicasOf(text: string): { host: string; port: number }[] | null {
  const said = text
    .split(/[\s,;]+/)
    .filter(Boolean)
    .map((one) => /^\[?([A-Za-z0-9][A-Za-z0-9.:_-]*?)\]?:(\d{1,5})$/.exec(one));
  if (said.length > mostMembers || said.some((m) => m === null || Number(m[2]) < 1 || Number(m[2]) > 65_535)) return null;
  return said.map((m) => ({ host: m![1]!, port: Number(m![2]) }));
}

/** The part of a connection that says which replicas are read in the place of the server. */
@Component({
  selector: 'lx-replicas',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [FormsModule, Slot],
  template: `<label
      >Replicas that are read in its place <small>host:port, several by commas; empty: it is read itself</small
      ><input
        class="field num"
        name="replicas"
        placeholder="berths-b.harbour.example:3306"
        [ngModel]="text()"
        (ngModelChange)="say($event)"
        [disabled]="disabled()"
    /></label>
    @if (wrong()) {
      <div class="w small" role="status">Say each as host:port.</div>
    } @else if (replicas(); as r) {
      <div class="sentence">
        The first that is at most
        <lx-slot
          label="seconds behind"
          [options]="options"
          [value]="r.behindSeconds"
          [text]="words(r.behindSeconds)"
          (valueChange)="replicasChange.emit({ members: r.members, behindSeconds: $event })"
          [disabled]="disabled()"
        />
        behind is read, otherwise the server itself; its log and restores are always the server's.
      </div>
    }`,
  styleUrl: './connection-page.scss',
  styles: `
    :host {
      display: flex;
      flex-direction: column;
      gap: 10px;
    }
  `,
})
export class Replicas {
  /** Undefined while what is written says none. */
  readonly replicas = input.required<ReplicasSaid | undefined>();
  readonly disabled = input(false);
  readonly replicasChange = output<ReplicasSaid | undefined>();
  /** As it was typed, while it means the same. */
  protected readonly text = linkedSignal<Members | undefined, string>({
    source: () => {
      const replicas = this.replicas();
      return replicas === undefined ? undefined : (replicas?.members ?? []);
    },
    computation: (members, before) => {
      if (before && (!members || JSON.stringify(replicasOf(before.value)) === JSON.stringify(members))) return before.value;
      return (members ?? []).map((m) => `${m.host}:${m.port}`).join(', ');
    },
  });
  protected readonly wrong = computed(() => this.replicas() === undefined);
  protected readonly words = (seconds: number) => formatDuration(seconds * 1000);
  protected readonly options: SlotOption<number>[] = [5, 15, 60, 300, 900].map((value) => ({ value, label: this.words(value) }));

  protected say(text: string): void {
    const members = replicasOf(text);
    this.text.set(text);
    const behindSeconds = this.replicas()?.behindSeconds ?? usualBehind;
    this.replicasChange.emit(members === null ? undefined : members.length ? { members, behindSeconds } : null);
  }
}
