import type { EstateBy, WorkloadRow } from '@lithodex/contract';
import { kinds } from '@lithodex/kinds';

/** Where a workload stands in each hierarchy its owners think in, a part for each level. */
export function placesOf(w: WorkloadRow, by: EstateBy): string[][] {
  const { machine } = w;
  switch (by) {
    case 'platform':
      return [[machine ? w.source.name : kinds[w.kind].group]];
    case 'host':
      return machine ? [[machine.cloud ? w.source.name : machine.cluster, machine.host]] : [];
    case 'folder':
      return machine ? [[w.source.name, ...machine.folder.split('/').filter(Boolean)]] : [];
    case 'storage':
      return machine ? [...new Set(machine.disks.map((d) => d.storage))].map((s) => [s]) : [];
    case 'place':
      return [[w.source.location || 'place unknown']];
    case 'tag':
      return w.tags.map((t) => [t]);
    case 'kind':
      return [[machine?.template ? 'Templates' : kinds[w.kind].group]];
  }
}
