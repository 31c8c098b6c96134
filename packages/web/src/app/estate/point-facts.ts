import { ChangeDetectionStrategy, Component, computed, input } from '@angular/core';
import type { Point, PointFacts as Facts } from '@lithodex/contract';
import { countOf } from '@lithodex/core';

/** What a point of a database server says of itself, for the line under the beds. */
@Component({
  selector: 'lx-point-facts',
  changeDetection: ChangeDetectionStrategy.OnPush,
  template: `@for (part of parts(); track part.text) {
    <span [class.w]="part.warns">{{ part.text }}</span>
  }`,
  styles: ':host { display: contents; }',
})
export class PointFacts {
  readonly point = input.required<Point>();
  readonly facts = input.required<Facts>();
  protected readonly parts = computed((): { text: string; warns: boolean }[] => {
    const [p, f] = [this.point(), this.facts()];
    const say = (text: string, warns = false) => ({ text, warns });
    if (f.kind === 'databaseLog') return [say(`${countOf(f.commits, 'commit')} since the one before`)];
    return [
      say(`+${p.added} ~${p.changed} −${p.removed} objects`),
      f.level === 'application' ? say('all tables at one instant') : say('some tables not at one instant', true),
    ];
  });
}
