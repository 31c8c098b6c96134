import { ChangeDetectionStrategy, Component, computed, inject, input, output, signal } from '@angular/core';
import { FormsModule } from '@angular/forms';
import { Router } from '@angular/router';
import type { BodyInput } from '@lithodex/contract';
import { countOf } from '@lithodex/core';
import { Api, type ApiFailure } from '../data/api';
import type { Destination } from '../kinds/kind-parts';
import { FormDialog } from '../ui/form-dialog';
import { Slot, type SlotOption } from '../ui/slot';

type Place = BodyInput<'addStanding'>['destination'];

/** A destination as a restore that is repeated takes it; undefined for one that can't be repeated. */
export function repeatable(destination: Destination | null): Place | undefined {
  if (destination?.to === 'folder') return { to: 'folder', folder: destination.folder };
  if (destination?.to === 'platform') {
    const { exceptions, networks, suffix, ...rest } = destination;
    return suffix && !exceptions?.length ? { ...rest, suffix, networks: networks ?? [] } : undefined;
  }
  if (destination?.to === 'cloud') {
    const { exceptions, ...rest } = destination;
    return (rest.suffix || rest.ahead) && !exceptions?.length ? rest : undefined;
  }
  if (destination?.to === 'server') {
    const { databases } = destination;
    return databases?.length ? { ...destination, databases } : undefined;
  }
  return undefined;
}

/** Asks when a restore is repeated, and says what that does. */
@Component({
  selector: 'lx-repeat-form',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [FormsModule, FormDialog, Slot],
  template: `<lx-form-dialog heading="Repeat this restore" (closed)="closed.emit()">
    <form (ngSubmit)="save()">
      <p class="m-0">
        <lx-slot label="rhythm" [options]="rhythms" [value]="rhythm()" (valueChange)="rhythm.set($event)" />
        @switch (rhythm()) {
          @case ('point') {
            &ngsp;there is a newer good point of one of them, it is brought there: also one that another installation made in a store that
            is followed.
          }
          @case ('hour') {
            &ngsp;at <lx-slot label="minutes past the hour" [options]="minutes" [value]="past()" (valueChange)="past.set($event)" />
            past it the newest good point of each is brought there, whatever point is picked now.
          }
          @default {
            &ngsp;at
            <input class="field" type="time" aria-label="time" name="at" required [ngModel]="at()" (ngModelChange)="at.set($event)" /> the
            newest good point of each is brought there, whatever point is picked now.
          }
        }
      </p>
      <p class="mute m-0">
        What the time before brought is taken away once the new is whole: for a while there is room needed for both. Files are read again
        and compared, machines are read back and get no tags, so that no policy takes them; each time is kept as evidence.
      </p>
      <label
        >Name
        <input
          class="field wide"
          name="name"
          aria-label="Name of what is repeated"
          required
          maxlength="120"
          [ngModel]="name()"
          (ngModelChange)="name.set($event)"
      /></label>
      <label
        >Why
        <input
          class="field wide"
          name="reason"
          required
          minlength="3"
          placeholder="what it is to prove, and to whom"
          [ngModel]="reason()"
          (ngModelChange)="reason.set($event)"
      /></label>
      @if (problem()) {
        <div class="problem" role="alert">{{ problem() }}</div>
      }
      <div>
        <button type="submit" class="act go" [class.held]="!complete()" [disabled]="!complete() || busy()">Repeat it</button>
      </div>
    </form>
  </lx-form-dialog>`,
  styles: 'form { display: grid; gap: 12px; } .wide { width: 100%; }',
})
export class RepeatForm {
  private readonly api = inject(Api);
  private readonly router = inject(Router);
  readonly workloads = input.required<readonly number[]>();
  readonly destination = input.required<Place>();
  readonly start = input(false);
  readonly closed = output();
  protected readonly rhythms: SlotOption<string>[] = [
    { value: '', label: 'Every day' },
    { value: '1,2,3,4,5', label: 'On weekdays' },
    { value: '1', label: 'Every Monday' },
    { value: '7', label: 'Every Sunday' },
    { value: 'hour', label: 'Every hour' },
    { value: 'point', label: 'Whenever' },
  ];
  protected readonly minutes: SlotOption<number>[] = Array.from({ length: 12 }, (_, i) => ({
    value: 5 * i,
    label: countOf(5 * i, 'minute'),
  }));
  protected readonly rhythm = signal('');
  protected readonly past = signal(0);
  protected readonly at = signal('05:00');
  protected readonly name = signal('');
  protected readonly reason = signal('');
  protected readonly problem = signal('');
  protected readonly busy = signal(false);
  protected readonly complete = computed(() => this.name().trim() !== '' && this.reason().trim().length >= 3 && this.at() !== '');

  private schedule(): BodyInput<'addStanding'>['schedule'] {
    const [rhythm, at] = [this.rhythm(), this.at()];
    if (rhythm === 'point') return { every: 'point' };
    if (rhythm === 'hour') return { every: 'hour', past: [this.past()] };
    return rhythm === '' ? { every: 'day', at } : { every: 'week', days: rhythm.split(',').map(Number), at };
  }

  protected save(): void {
    if (!this.complete()) return;
    this.busy.set(true);
    this.problem.set('');
    const body: BodyInput<'addStanding'> = {
      name: this.name().trim(),
      workloads: [...new Set(this.workloads())],
      schedule: this.schedule(),
      destination: this.destination(),
      start: this.start(),
      reason: this.reason().trim(),
    };
    this.api.call('addStanding', { body }).subscribe({
      next: () => void this.router.navigate(['/recover/standing']),
      error: (f: ApiFailure) => {
        this.busy.set(false);
        this.problem.set(f.message);
      },
    });
  }
}
