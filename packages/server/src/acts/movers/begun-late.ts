import { placeOrder, standsIn, type DatabaseLogPoint, type DatabasePoint } from '@lithodex/kinds';

/**
 * Whether a log was begun after the only fulls there are, as when both began at the same time: nothing leads from a full into it, so it is taken once more from where they stand, as far as
 * the server still has it. One of which it is known that nothing more is there stays as it is.
 */
export function isBegunLate({ reach }: Pick<DatabaseLogPoint, 'reach'>, fulls: readonly NonNullable<DatabasePoint['position']>[]): boolean {
  const [first] = reach;
  if (!first?.begins || first.cause !== '') return false;
  const { begins } = first;
  return fulls.some((f) => placeOrder(f, begins) < 0) && !fulls.some((f) => reach.some((r) => standsIn(f, r)));
}
