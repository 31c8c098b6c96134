import { typesThat, type TaskType } from '@lithodex/contract';

/** The types of task that are so, as a list for IN. */
export function typesInSql(is: (type: TaskType) => boolean): string {
  return typesThat(is)
    .map((type) => `'${type}'`)
    .join(', ');
}
