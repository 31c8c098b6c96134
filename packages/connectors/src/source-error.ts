/** Every way in which a system keeps a connector from its work, by stable code. */
export const sourceErrors = {
  SIGN_IN_REFUSED: 'The platform refused the sign-in.',
  PASSWORD_EXPIRED: 'The password or certificate for the platform has expired.',
  RIGHT_MISSING: 'The account on the platform lacks a right.',
  SOURCE_AWAY: 'The platform does not answer.',
  MACHINE_GONE: 'The machine is not on the platform any more.',
  SNAPSHOT_FAILED: 'The platform could not take a snapshot of the machine.',
  SNAPSHOT_GONE: 'The storage does not keep the snapshot any more.',
  QUIESCE_FAILED: 'The machine could not be brought to rest.',
  INSIDE_REFUSED: 'The machine does not let the account inside in.',
  MACHINE_OFF: 'The machine is off.',
  CHANGES_UNKNOWN: 'The platform does not know what changed since the last run.',
  NO_ROOM_THERE: 'The storage of the platform has no room left.',
  MACHINE_RUNNING: 'The machine is running.',
  NAME_TAKEN_THERE: 'There is a machine of this name on the platform.',
  PLACE_REFUSED: 'The platform can not put the machine there.',
  DISK_DIFFERS: 'A disk of the machine is not what the point was taken of.',
  NOT_AS_STORED: 'What was read back is not what was written.',
  DISK_AWAY_THERE: 'The platform does not reach the disks that the mover shows it.',
  NOT_COPIED: 'The disks are not copied yet.',
  OVERLAY_NO_ROOM: 'There is too little room for what the machine may write.',
  SHARE_AWAY: 'The share does not answer.',
  SHARE_REFUSED: 'The share does not let us in, or lets us not write.',
  SHARE_FAILED: 'The share failed.',
  SHARE_PROGRAM_MISSING: 'The program for shares over SMB is not installed on the mover.',
  OPENSSL_MISSING: 'The program that makes certificates is not installed on the mover.',
  PLATFORM_FAILED: 'The platform failed.',
  DATABASE_REFUSED: 'The database server refused the sign-in.',
  DATABASE_AWAY: 'The database server does not answer.',
  DATABASE_RIGHT_MISSING: 'The account on the database server lacks a right.',
  DATABASE_GONE: 'The database is not on the server any more.',
  DATABASE_CHANGED: 'A table was altered while it was read.',
  DATABASE_FAILED: 'The database server failed.',
  LOG_OFF: 'The database server writes no log.',
  LOG_DAMAGED: 'The log of the database server is damaged.',
  LOG_LACKS: 'The log that is kept does not lead to the moment that is wanted.',
  REPLAY_FAILED: 'The log could not be replayed.',
  SCRATCH_FAILED: 'The scratch server could not be used.',
  EDITED_REFUSED: 'The edited text does not run.',
  SCRATCH_GONE: 'The scratch server is not up any more.',
  TOO_LONG: 'Reading the table takes too long: bring it back beside and compare the two there.',
  DUMP_FAILED: 'The program that reads the database server failed.',
  DUMP_UNREADABLE: 'The stored text of a table can not be read.',
  PROGRAM_MISSING: 'A program that is needed for database servers is not installed on the mover.',
  EXISTS_THERE: 'The server holds a table or view of this name.',
  TABLE_GONE: 'The table is not on the server any more.',
  NO_KEY: 'The table has no key by which its rows are told apart.',
  SWAP_REFUSED: 'The two tables can not be swapped.',
  NAME_TOO_LONG: 'A name is longer than the server takes.',
  READER_ABSENT: 'The mover that reads the source is not there.',
  READER_LOST: 'The mover that reads the source went away.',
  KEEPER_LOST: 'The mover that keeps went away.',
  LINK_BROKEN: 'What came over the connection between two movers is not what may come there.',
  TENANT_REFUSED: 'A service of the office tenant refused the sign-in.',
  TENANT_AWAY: 'A service of the office tenant does not answer.',
  TENANT_GONE: 'The person or site is not in the office tenant any more.',
  TENANT_FAILED: 'A service of the office tenant failed.',
  TENANT_FULL: 'There is no room left for it in the office tenant.',
  UNIT_LOST: 'The machine that is made anew went away.',
  UNIT_ABSENT: 'The machine that is to be made anew is not there.',
  REBUILD_FAILED: 'A disk of the server could not be made anew.',
  NO_SERVER: 'The folder is not the root of a server.',
  BUCKET_REFUSED: 'The object storage refused the sign-in.',
  BUCKET_AWAY: 'The object storage does not answer.',
  BUCKET_GONE: 'There is no such bucket.',
  BUCKET_RIGHT_MISSING: 'The account on the object storage lacks a right.',
  BUCKET_FAILED: 'The object storage failed.',
  OBJECT_GONE: 'There is no such object.',
  OBJECT_FROZEN: 'The object lies in a class that has to be thawed before it can be read.',
  OBJECT_CHANGED: 'The object changes all the time.',
  CLUSTER_REFUSED: 'The cluster refused the sign-in.',
  CLUSTER_AWAY: 'The cluster does not answer.',
  CLUSTER_RIGHT_MISSING: 'The account on the cluster lacks a right.',
  CLUSTER_FAILED: 'The cluster failed.',
  APPLICATION_GONE: 'There is no such namespace or resource on the cluster.',
  VOLUME_FAILED: 'A volume could not be read or filled.',
  COMMAND_FAILED: 'A command in a pod failed.',
  NOT_STARTED: 'The application did not start.',
  ROWS_DIFFER: 'A table does not hold as many rows as were stored.',
} as const;
export type SourceErrorCode = keyof typeof sourceErrors;

export class SourceError extends Error {
  constructor(
    readonly code: SourceErrorCode,
    readonly details = '',
  ) {
    super(details ? `${sourceErrors[code].replace(/\.$/, '')}: ${details}.` : sourceErrors[code]);
    this.name = 'SourceError';
  }
}

/** What the codes of the platform mean here. */
const meaning: Readonly<Record<string, SourceErrorCode>> = {
  SIGN_IN_REFUSED: 'SIGN_IN_REFUSED',
  PASSWORD_EXPIRED: 'PASSWORD_EXPIRED',
  SESSION_ENDED: 'SIGN_IN_REFUSED',
  RIGHT_MISSING: 'RIGHT_MISSING',
  NOT_FOUND: 'MACHINE_GONE',
  NAME_TAKEN: 'NAME_TAKEN_THERE',
  MACHINE_RUNNING: 'MACHINE_RUNNING',
  SNAPSHOT_FAILED: 'SNAPSHOT_FAILED',
  QUIESCE_FAILED: 'QUIESCE_FAILED',
  INSIDE_REFUSED: 'INSIDE_REFUSED',
  MACHINE_OFF: 'MACHINE_OFF',
  CHANGES_UNKNOWN: 'CHANGES_UNKNOWN',
  NOT_ON_THIS_HOST: 'PLACE_REFUSED',
  INVALID: 'PLACE_REFUSED',
  NO_ROOM: 'NO_ROOM_THERE',
  DISK_AWAY: 'DISK_AWAY_THERE',
  NOT_COPIED: 'NOT_COPIED',
  DOWN: 'SOURCE_AWAY',
};

export function sourceErrorOf(code: string, message: string): SourceError {
  return new SourceError(meaning[code] ?? 'PLATFORM_FAILED', message);
}

export function isSourceError(error: unknown, code: SourceErrorCode): boolean {
  return error instanceof SourceError && error.code === code;
}
