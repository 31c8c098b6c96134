import { formatList } from '@lithodex/core';
import type { Consequences, PolicyRule } from '@lithodex/contract';
import { partWords, tenantTopNames } from '@lithodex/kinds';

/** Parts of people and sites that no rule of a policy reads again: they would stay as the first point has them. */
export function partWarnings(rules: readonly Pick<PolicyRule, 'kind' | 'parts'>[]): Consequences['warnings'] {
  const reading = rules.filter((r) => r.kind !== 'log');
  if (!reading.length || reading.some((r) => !r.parts.length)) return [];
  const never = tenantTopNames.filter((top) => reading.every((r) => !r.parts.includes(top)));
  if (!never.length) return [];
  return [
    {
      code: 'PARTS_READ_ONCE',
      text: `Of people and sites ${formatList(never.map((top) => partWords[top]))} are read for the first point only: no rule of this policy reads them again. Let one read everything.`,
    },
  ];
}
