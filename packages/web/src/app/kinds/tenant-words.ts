import type { WorkloadRow } from '@lithodex/contract';
import type { TenantFacts, TenantPoint } from '@lithodex/kinds';
import { countOf, formatList } from '@lithodex/core';

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
