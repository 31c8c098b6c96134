import { describe, expect, it } from 'vitest';
import { Work } from './work';
import { taskTypes, typesThat } from './task-types';

describe('the table of task types', () => {
  it('has every type that a mover can be asked to do', () => {
    const asked = Work.options.flatMap((o) => ('options' in o.shape.type ? o.shape.type.options : [o.shape.type.value]));
    expect(Object.keys(taskTypes).sort()).toEqual([...asked].sort());
  });

  it('lets nothing that takes points away hold pins, and nothing urgent write to a target', () => {
    expect(typesThat((t) => t.duties.includes('prune') && t.pins)).toEqual([]);
    expect(typesThat((t) => t.urgent && (t.writesTarget || t.changesSeries || t.paced))).toEqual([]);
  });

  it('asks for the duty of capture wherever a source is touched, and for that of keeping wherever a target is read', () => {
    expect(typesThat((t) => t.readsSource && !t.duties.includes('capture'))).toEqual([]);
    expect(typesThat((t) => (t.pins || t.writesTarget) && !t.duties.includes('keep'))).toEqual([]);
  });
});
