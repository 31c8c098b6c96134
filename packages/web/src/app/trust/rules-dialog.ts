import { ChangeDetectionStrategy, Component, computed, inject, output, signal } from '@angular/core';
import { toObservable, toSignal } from '@angular/core/rxjs-interop';
import { FormsModule } from '@angular/forms';
import type { RuleFileRow, RulesTried } from '@lithodex/contract';
import { catchError, combineLatest, debounceTime, of, switchMap } from 'rxjs';
import { Acts } from '../data/acts';
import { Api } from '../data/api';
import { outcome } from '../data/outcome';
import { Session } from '../data/session';
import { FormDialog } from '../ui/form-dialog';
import { formatPipes } from '../ui/format-pipes';

interface Edited {
  readonly id: number | null;
  readonly name: string;
  readonly text: string;
  readonly on: boolean;
}

const emptyRules = `rule name_of_it {
  meta:
    about = "what it is, in words"
    grade = "suspect"
  strings:
    $a = "what gives it away"
  condition:
    $a
}
`;

/** The files of rules that points are scanned by: switched, changed, and tried on a sample while one writes. */
@Component({
  selector: 'lx-rules-dialog',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [FormsModule, FormDialog, ...formatPipes],
  templateUrl: './rules-dialog.html',
  styleUrl: './rules-dialog.scss',
})
export class RulesDialog {
  private readonly api = inject(Api);
  protected readonly session = inject(Session);
  readonly closed = output();
  readonly changed = output();
  protected readonly acts = new Acts();
  private readonly result = toSignal(
    this.acts.changed.pipe(switchMap(() => this.api.call('listRules').pipe(outcome<{ rows: RuleFileRow[] }>()))),
  );
  protected readonly failure = computed(() => this.result()?.failure);
  protected readonly rows = computed(() => this.result()?.value?.rows ?? []);
  protected readonly edited = signal<Edited | null>(null);
  protected readonly sample = signal('');
  protected readonly tried = toSignal(
    combineLatest([toObservable(this.edited), toObservable(this.sample)]).pipe(
      debounceTime(400),
      switchMap(([edited, sample]) =>
        edited && this.session.keeps()
          ? this.api.call('tryRules', { body: { text: edited.text || ' ', sample } }).pipe(catchError(() => of<RulesTried | null>(null)))
          : of<RulesTried | null>(null),
      ),
    ),
  );

  protected edit(row?: RuleFileRow): void {
    this.acts.problem.set('');
    this.edited.set(row ? { id: row.id, name: row.name, text: row.text, on: row.on } : { id: null, name: '', text: emptyRules, on: true });
  }

  protected set(change: Partial<Edited>): void {
    this.edited.update((e) => e && { ...e, ...change });
  }

  protected keep(): void {
    const edited = this.edited();
    if (!edited) return;
    const { id, ...body } = edited;
    const done = () => {
      this.edited.set(null);
      this.changed.emit();
    };
    if (id === null) this.acts.run(this.api.call('addRules', { body }), done);
    else this.acts.run(this.api.call('changeRules', { id, body }), done);
  }

  protected turn({ id, name, text, on }: RuleFileRow): void {
    this.acts.run(this.api.call('changeRules', { id, body: { name, text, on: !on } }), () => {
      this.changed.emit();
    });
  }

  protected remove(id: number): void {
    this.acts.run(this.api.call('removeRules', { id }), () => {
      this.edited.set(null);
      this.changed.emit();
    });
  }
}
