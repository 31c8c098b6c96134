import { atOf } from '../moments';
import type { RestorePlan } from '@lithodex/contract';
import { countOf, formatBytes, formatDuration, formatPrice } from '@lithodex/core';
import { table } from '../table';

const mostShown = 20;
const levels = { fine: 'fine', look: 'look', stop: 'STOP' } as const;

/** A plan in words: what goes where, what it takes, what stands in the way. */
export function planWords(plan: RestorePlan, zone: string): string {
  const items = table(
    ['What', 'As of', '>Size', 'Goes to'],
    plan.items
      .slice(0, mostShown)
      .map((i) => [i.pick.path === '' ? i.workload : `${i.workload} /${i.pick.path}`, atOf(i.moment, zone), formatBytes(i.size), i.goesTo]),
    'Nothing.',
  );
  const more = plan.items.length > mostShown ? [`and ${plan.items.length - mostShown} more`] : [];
  const { total, existing, price, estimateMs, rescue, readFrom } = plan;
  const time =
    estimateMs === null ? 'How long it takes is not known yet.' : `About ${estimateMs < 1000 ? 'a second' : formatDuration(estimateMs)}.`;
  const exists = existing.exist
    ? `${existing.exist} of ${countOf(existing.looked, 'place')} looked at ${existing.exist === 1 ? 'is' : 'are'} taken${existing.newer ? `, ${existing.newer} by something newer` : ''}.`
    : '';
  return [
    items,
    ...more,
    '',
    `${countOf(total.items, 'item')}, ${formatBytes(total.bytes)}, read from ${readFrom.map((r) => r.target).join(', ') || 'nothing'}. ${time}${price ? ` It costs ${formatPrice(price.amount, price.currency)} at most.` : ''}`,
    ...(exists ? [exists] : []),
    ...(rescue ? [`A point of ${rescue.workload} is taken first, so that there is a way back.`] : []),
    ...plan.checks.map((c) => `${levels[c.level]}: ${c.text}`),
  ].join('\n');
}

/** Whether something stands in the way. */
export const isStopped = (plan: RestorePlan): boolean => plan.checks.some((c) => c.level === 'stop');
