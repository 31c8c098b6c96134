import type { WorkloadRow } from '@lithodex/contract';
import { countOf } from '@lithodex/core';
import type { ShareFacts, SharePoint } from '@lithodex/kinds';

/** What is known of a share; null for others. */
export const shareFacts = ({ facts }: Pick<WorkloadRow, 'facts'>): ShareFacts | null => (facts?.kind === 'share' ? facts : null);

/** What a point of a share holds besides files. */
export const heldWords = ({ folders, accessLists }: SharePoint): string =>
  `${countOf(folders, 'folder')}${accessLists ? ', with who may do what' : ''}`;
