import type { RestoreBody } from '@lithodex/contract';
import type { KindName } from '@lithodex/kinds';
import { applicationRestores } from '../recover/application-restores';
import { attachRestores } from '../recover/attach-restores';
import { bucketRestores } from '../recover/bucket-restores';
import { cloudRestores } from '../recover/cloud-restores';
import { databaseRestores } from '../recover/database-restores';
import { diskRestores } from '../recover/disk-restores';
import { unitRestores } from '../recover/unit-restores';
import { downloadRestores } from '../recover/download-restores';
import { fileRestores } from '../recover/file-restores';
import { fileServerRestores } from '../recover/file-server-restores';
import { insideRestores } from '../recover/inside-restores';
import { machineRestores } from '../recover/machine-restores';
import { overRestores } from '../recover/over-restores';
import { runningMachines } from '../recover/running-machines';
import { scratchRestores } from '../recover/scratch-restores';
import { shareRestores } from '../recover/share-restores';
import type { RestorePlanner } from '../recover/restore-planner';
import { tenantRestores } from '../recover/tenant-restores';
import { applicationCauses, applicationMatters, clusterLink } from './application-matters';
import { bucketCauses, bucketLink, bucketMatters } from './bucket-matters';
import { databaseCauses, databaseMatters, systemLink } from './database-matters';
import { connectionCauses, connectionLink, machineMatters } from './platform-matters';
import { serverMatters } from './server-matters';
import { fileServerCauses, fileServerLink, shareMatters } from './share-matters';
import { tenantCauses, tenantLink, tenantMatters } from './tenant-matters';
import type { ServerKind } from './server-kind';

/** The part of each kind that is the server's. */
export const serverKinds: Readonly<Record<KindName, ServerKind>> = {
  files: { restores: fileRestores, matters: serverMatters },
  machine: {
    restores: machineRestores,
    restoresInside: insideRestores,
    madeAnew: true,
    matters: machineMatters,
    connection: { causes: connectionCauses, link: connectionLink },
  },
  database: { restores: databaseRestores, matters: databaseMatters, connection: { causes: databaseCauses, link: systemLink } },
  tenant: { restores: tenantRestores, matters: tenantMatters, connection: { causes: tenantCauses, link: tenantLink } },
  bucket: { restores: bucketRestores, matters: bucketMatters, connection: { causes: bucketCauses, link: bucketLink } },
  application: {
    restores: applicationRestores,
    matters: applicationMatters,
    connection: { causes: applicationCauses, link: clusterLink },
  },
  share: { restores: fileServerRestores, matters: shareMatters, connection: { causes: fileServerCauses, link: fileServerLink } },
};

/** Restores to another place than the one that points came from. */
export const restoresElsewhere: Readonly<Record<Exclude<RestoreBody['destination']['to'], 'original'>, RestorePlanner>> = {
  download: downloadRestores,
  attached: attachRestores,
  folder: fileRestores,
  platform: machineRestores,
  cloud: cloudRestores,
  over: overRestores,
  inside: insideRestores,
  running: runningMachines,
  server: databaseRestores,
  scratch: scratchRestores,
  share: shareRestores,
  member: tenantRestores,
  bucket: bucketRestores,
  application: applicationRestores,
  fileServer: fileServerRestores,
  disks: diskRestores,
  unit: unitRestores,
};
