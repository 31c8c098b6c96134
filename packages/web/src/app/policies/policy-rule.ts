import { ChangeDetectionStrategy, Component, computed, input, output } from '@angular/core';
import type { PolicyRule as Rule, Target } from '@lithodex/contract';
import { Slot, type SlotOption } from '../ui/slot';
import { CopyRules } from './copy-rules';
import { choiceOf, keepChoices, keepOfChoice, keepTyped, withLongTerm } from './keep-choice';
import { LockRule } from './lock-rule';
import { LongTermRule } from './long-term-rule';
import { PartsRule } from './parts-rule';
import { ScheduleRule } from './schedule-rule';
import { ageWords, keepWords } from './sentence';
import { SyntheticRule } from './synthetic-rule';

/** Cartridges take copies only. */
export const takesPoints = (t: Target): boolean => t.place.kind !== 'cartridges';

/** Minutes that the newest second may be old where nobody said otherwise. */
const usualAge = 15;

/** One rule of a policy as a sentence, and under it where its points are copied to. */
@Component({
  selector: 'lx-policy-rule',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [Slot, ScheduleRule, LongTermRule, PartsRule, SyntheticRule, LockRule, CopyRules],
  template: `
    <div class="sentence rule">
      <i class="k" [class.full]="rule().kind === 'full'"></i>
      <lx-schedule-rule
        [schedule]="rule().schedule"
        [followable]="rule().kind === 'log'"
        [policies]="policies()"
        [disabled]="disabled()"
        (changed)="setSchedule($event)"
      />
      take {{ rule().kind === 'incremental' ? 'an' : 'a' }}
      <lx-slot label="kind" [options]="kinds" [value]="rule().kind" (valueChange)="setKind($event)" [disabled]="disabled()" /> to
      <lx-slot
        label="target"
        [options]="targetOptions()"
        [value]="rule().targetId"
        (valueChange)="setTarget($event)"
        [disabled]="disabled()"
      />, {{ rule().kind === 'log' ? 'to reach any second of' : 'keep it' }}
      {{ rule().keep.by === 'hand' || rule().kind === 'log' ? '' : 'for' }}
      <lx-slot
        label="retention"
        [options]="keeps()"
        [value]="choiceOf(rule().keep)"
        [text]="keepWords(rule().keep)"
        (valueChange)="setKeep(keepOfChoice($event))"
        free="or type 45 days, 12 points"
        (entered)="typeKeep($event)"
        [disabled]="disabled()"
      />
      @if (rule().kind === 'log') {
        <span
          >, and the newest second is
          <lx-slot
            label="age of the newest second"
            [options]="ages"
            [value]="rule().objectiveMinutes"
            [text]="ageWords(rule().objectiveMinutes)"
            (valueChange)="set({ objectiveMinutes: $event })"
            [disabled]="disabled()"
        /></span>
      }
      .
      @if (rule().kind !== 'log') {
        <lx-long-term-rule [keep]="rule().keep" [disabled]="disabled()" (changed)="set({ keep: $event })" />
        @if ((people() || rule().parts.length) && rule().kind === 'incremental') {
          <lx-parts-rule [parts]="rule().parts" [disabled]="disabled()" (changed)="set({ parts: $event })" />
        }
        <lx-synthetic-rule [rhythm]="rule().synthetic" [disabled]="disabled()" (changed)="set({ synthetic: $event })" />
      }
      @if (rule().schedule.every !== 'moment') {
        <lx-lock-rule [days]="rule().lockDays" [target]="target()" [disabled]="disabled()" (changed)="set({ lockDays: $event })" />
      }
      @if (!alone() && !disabled()) {
        <button type="button" class="act sm" (click)="dropped.emit()">Without this rule</button>
      }
    </div>
    <lx-copy-rules
      [rules]="rule().copies"
      [targets]="copyTargets()"
      [brief]="!alone()"
      [disabled]="disabled()"
      (changed)="set({ copies: $event })"
    />
  `,
  styleUrl: './policy-rule.scss',
})
export class PolicyRule {
  readonly rule = input.required<Rule>();
  readonly targets = input.required<readonly Target[]>();
  /** Policies it could follow. */
  readonly policies = input.required<readonly { id: number; name: string }[]>();
  /** People or sites are among what its policy protects. */
  readonly people = input(false);
  /** The only rule of its policy stays. */
  readonly alone = input(true);
  readonly disabled = input(false);
  readonly changed = output<Rule>();
  readonly dropped = output();

  protected readonly kinds: SlotOption<Rule['kind']>[] = [
    { value: 'incremental', label: 'incremental', note: 'reads what changed since the last point' },
    { value: 'differential', label: 'differential', note: 'reads what changed since the last full' },
    { value: 'full', label: 'full', note: 'reads everything again' },
    { value: 'log', label: 'log', note: 'of databases: leads to any second since a full' },
  ];
  protected readonly ages: SlotOption<number | null>[] = [null, 1, 2, 5, 10, 15, 30, 60, 120, 240].map((value) => ({
    value,
    label: ageWords(value),
  }));
  protected readonly ageWords = ageWords;
  protected readonly keeps = computed(() =>
    this.rule().kind === 'log' ? keepChoices.filter(({ value }) => keepOfChoice(value).by === 'days') : keepChoices,
  );
  protected readonly keepWords = keepWords;
  protected readonly choiceOf = choiceOf;
  protected readonly keepOfChoice = keepOfChoice;
  protected readonly target = computed(() => this.targets().find((t) => t.id === this.rule().targetId));
  protected readonly targetOptions = computed(() =>
    this.targets()
      .filter(takesPoints)
      .map((t) => ({ value: t.id, label: t.name })),
  );
  /** Where points can be copied to: every target but the one they are stored on first. */
  protected readonly copyTargets = computed(() => this.targets().filter((t) => t.id !== this.rule().targetId));

  protected set(change: Partial<Rule>): void {
    this.changed.emit({ ...this.rule(), ...change });
  }

  /** A log reaches back days: points of it are not kept for themselves. */
  protected setKind(kind: Rule['kind']): void {
    this.set(
      kind === 'log'
        ? { kind, synthetic: null, keep: { by: 'days', days: 14 }, objectiveMinutes: usualAge, parts: [] }
        : {
            kind,
            objectiveMinutes: null,
            ...(kind !== 'incremental' && { parts: [] }),
            ...(this.rule().schedule.every === 'moment' && { schedule: { every: 'day', at: '22:00' } }),
          },
    );
  }

  /** Points that follow each other within seconds can not be locked. */
  protected setSchedule(schedule: Rule['schedule']): void {
    this.set({ schedule, ...(schedule.every === 'moment' && { lockDays: null }) });
  }

  /** Takes a retention, with the long-term points there are. */
  protected setKeep(keep: Rule['keep']): void {
    this.set({ keep: withLongTerm(keep, this.rule().keep) });
  }

  protected typeKeep(text: string): void {
    const keep = keepTyped(text);
    if (keep) this.setKeep(keep);
  }

  protected setTarget(targetId: string): void {
    this.set({ targetId, copies: this.rule().copies.filter((c) => c.targetId !== targetId) });
  }
}
