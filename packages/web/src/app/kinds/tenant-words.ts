import type { WorkloadRow } from '@lithodex/contract';
import { partWords, type TenantFacts, type TenantPoint, type TenantTop } from '@lithodex/kinds';
import { countOf, formatDuration, formatList } from '@lithodex/core';

/** What is known of somebody or something of an office tenant; null for others. */
export const tenantFacts = ({ facts }: Pick<WorkloadRow, 'facts'>): TenantFacts | null => (facts?.kind === 'tenant' ? facts : null);

/** What a member is called. */
export const memberNouns: Readonly<Record<TenantFacts['type'], string>> = {
  person: 'person',
  group: 'shared mailbox',
  site: 'site',
  room: 'chat room',
};

/** What a point of a member holds, in words. */
export function countWords({ messages, appointments, contacts, files, days }: TenantPoint['counts']): string {
  return formatList([
    ...(messages ? [countOf(messages, 'message')] : []),
    ...(appointments ? [countOf(appointments, 'appointment')] : []),
    ...(contacts ? [countOf(contacts, 'contact')] : []),
    ...(files ? [countOf(files, 'file')] : []),
    ...(days ? [`${countOf(days, 'day')} of conversation`] : []),
  ]);
}

/** What of people and sites is read: "mail, calendars and contacts". */
export const partsWords = (parts: readonly TenantTop[]): string =>
  parts.length ? formatList(parts.map((part) => partWords[part])) : 'everything';

/** What a point holds as it was read for an earlier one: "calendars and contacts read 20 h before, drives read 2 d before"; '' for nothing. */
export function readBeforeWords(readAt: TenantPoint['readAt'], moment: number): string {
  const byAge = new Map<number, TenantTop[]>();
  for (const [top, at] of Object.entries(readAt) as [TenantTop, number][]) byAge.set(at, [...(byAge.get(at) ?? []), top]);
  return [...byAge]
    .sort(([a], [b]) => b - a)
    .map(([at, tops]) => `${partsWords(tops)} read ${formatDuration(moment - at)} before`)
    .join(', ');
}
