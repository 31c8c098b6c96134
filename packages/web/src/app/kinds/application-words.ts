import type { WorkloadRow } from '@lithodex/contract';
import { countOf, formatBytes } from '@lithodex/core';
import type { ApplicationFacts, ApplicationPoint } from '@lithodex/kinds';

/** What is known of an application; null for others. */
export const applicationFacts = ({ facts }: Pick<WorkloadRow, 'facts'>): ApplicationFacts | null =>
  facts?.kind === 'application' ? facts : null;

/** How much an application keeps in volumes. */
export const volumeWords = ({ claims, bytes }: Pick<ApplicationFacts, 'claims' | 'bytes'>): string =>
  claims === 0 ? 'no volumes' : `${countOf(claims, 'volume')}, up to ${formatBytes(bytes)}`;

/** What a point holds. */
export const holdsWords = ({ resources, volumes }: ApplicationPoint): string =>
  `${countOf(resources, 'resource')}, ${countOf(volumes.length, 'volume')}`;

/** How its volumes and pods were when a point was taken; '' where all was frozen and nobody asked for more. */
export function quietWords({ volumes, quiet }: ApplicationPoint): { readonly text: string; readonly warns: boolean } {
  const used = volumes.filter((v) => !v.frozen).map((v) => v.claim);
  const parts = [
    ...(used.length ? [`${used.join(', ')} read while used`] : []),
    ...(quiet.failed ? [`${countOf(quiet.failed, 'command')} of its pods failed`] : []),
    ...(quiet.pods ? [`${countOf(quiet.pods, 'pod')} brought to rest`] : []),
  ];
  return { text: parts.join('; '), warns: used.length + quiet.failed > 0 };
}

const shortWords: Readonly<Record<string, string>> = {
  PersistentVolumeClaim: 'claim',
  Ingress: 'route',
  HTTPRoute: 'route',
  ConfigMap: 'config',
};

/** A kind as people say it: without the group that it is of. */
export function kindWord(kind: string): string {
  const own = kind.split('.')[0]!;
  return shortWords[own] ?? own.replaceAll(/(?<=[a-z])(?=[A-Z])/g, ' ').toLowerCase();
}
