import type { WorkloadRow } from '@lithodex/contract';
import { applicationParts } from './application-parts';
import { bucketParts } from './bucket-parts';
import { databaseParts } from './database-parts';
import { filesParts } from './files-parts';
import type { KindParts } from './kind-parts';
import { machineParts } from './machine-parts';
import { shareParts } from './share-parts';
import { tenantParts } from './tenant-parts';

const parts: Readonly<Record<WorkloadRow['kind'], KindParts>> = {
  files: filesParts,
  machine: machineParts,
  database: databaseParts,
  tenant: tenantParts,
  bucket: bucketParts,
  application: applicationParts,
  share: shareParts,
};

/** What of a kind of workload is shown in its own way. */
export const partsOf = (kind: WorkloadRow['kind']): KindParts => parts[kind];
