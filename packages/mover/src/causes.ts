import type { Cause } from '@lithodex/contract';
import { SourceError, type SourceErrorCode } from '@lithodex/connectors';
import { EngineError, systemCode, type EngineErrorCode } from '@lithodex/engine';
import { VolumeError, type VolumeErrorCode } from '@lithodex/volumes';
import { DrillError } from './drill/drill-error';
import { ScannerError } from './scan/command-scanner';
import { ScriptError, type ScriptErrorCode } from './work/script';

const remedies: Partial<Record<EngineErrorCode, string>> = {
  TARGET_MISSING: 'Connect the disk, mount the folder or start the service of the bucket again, then retry.',
  CARTRIDGE_AWAY: 'Put the cartridge into the library, then retry.',
  NOT_OWNER: 'Look there whether that is meant. To write to it from here again, forget the target and take it over with its key envelope.',
  TARGET_FULL: 'Make room on the target or keep fewer points, then retry. What was stored so far is used again.',
  TARGET_REFUSED: 'Look at the rights of the mover there, then retry.',
  KEY_MISSING: 'Put the key file back into the keys folder of the mover, or restore it from the key envelope.',
  KEY_WRONG: 'The key file belongs to another store. Put the right one back.',
  OBJECT_MISSING: 'A file of the store is gone. Restore from an older point and look at the disk of the target.',
  OBJECT_DAMAGED: 'The store is damaged in one place. Restore from another point and check the disk of the target.',
  LEADS_AWAY: 'Name the folder itself, not a link to it; a link that somebody else put there is not followed. Then retry.',
  OUT_OF_BOUNDS: 'Choose another folder, or let whoever runs the host of the mover change its settings (mover.json).',
  ACCOUNT_UNKNOWN: 'Make the account on the host of the mover, or name another one in the source, then retry.',
  STOPPED: 'Retry when it suits. What was stored so far is used again.',
};

const sourceRemedies: Record<SourceErrorCode, string> = {
  SIGN_IN_REFUSED: 'Look at the account of the platform in the estate, then retry.',
  PASSWORD_EXPIRED: 'Give the platform a new password or certificate in the estate, then retry. A certificate lasts longer.',
  RIGHT_MISSING: 'Give the account the right on the platform: the test of the connection names it and what it is for. Then retry.',
  SOURCE_AWAY: 'Look whether the platform runs and can be reached from the mover, then retry.',
  MACHINE_GONE: 'If the machine was removed on purpose, nothing has to be done: its points stay until they expire.',
  SNAPSHOT_FAILED: 'Look on the platform at the snapshots of the machine and the room on its storage, then retry.',
  SNAPSHOT_GONE: 'Choose another point: a snapshot on a storage stays only for as long as the storage keeps it.',
  QUIESCE_FAILED: 'Look at the helper inside the machine, then retry.',
  INSIDE_REFUSED: 'Give the machine an account that its system lets in (Estate, the machine, Inside).',
  MACHINE_OFF: 'Start the machine, then retry.',
  REBUILD_FAILED: 'Look at the disk and at the log of the run, then retry: what was written before is erased again.',
  NO_SERVER: 'Connect the folder / of a mover that runs on the server, or do not read the folder as a whole server.',
  CHANGES_UNKNOWN: 'Retry: everything is read once.',
  NO_ROOM_THERE: 'Make room on the storage, or choose another one, then retry.',
  MACHINE_RUNNING: 'Stop the machine, then retry.',
  NAME_TAKEN_THERE: 'Choose another name, then retry.',
  PLACE_REFUSED: 'Choose a host that sees the storage and the network, then retry.',
  DISK_DIFFERS: 'The disk was made anew or resized since. Restore beside what is there instead.',
  NOT_AS_STORED: 'Do not use what was restored. Look at the disk or the storage it went to, then retry.',
  DISK_AWAY_THERE:
    'Start the mover with an address that the hosts of the platform reach (--attach ADDRESS), and let them through to it. Then start it again.',
  NOT_COPIED: 'Wait until all of it is copied, then cut over.',
  OVERLAY_NO_ROOM: 'Choose another folder of the mover, or less room, then start it again.',
  QUOTA_THERE: 'Ask for a higher quota there, remove what nobody needs, or choose another region, then retry.',
  IMPORT_FAILED: 'Look at the import service of the cloud, then retry. Disks that were made already are not sent again.',
  NOT_IN_A_CLOUD: 'Choose a platform of hosts, or bring it to a folder or as a download.',
  SHARE_AWAY: 'Look whether the share is served and can be reached from the mover, then retry.',
  SHARE_REFUSED: 'Look at the account, its password and its rights on the share (Recover, Shares), then retry.',
  SHARE_FAILED: 'Look at the server of the share, then retry.',
  FILE_BUSY_THERE: 'Close it there, or retry when nobody works with it.',
  FILE_GONE_THERE: 'If it was removed on purpose, nothing has to be done.',
  FILE_SHUT_THERE: 'Give the account the right on the file server: the test of the connection names what it needs. Then retry.',
  SHARE_PROGRAM_MISSING: 'Install it on the host of the mover (package smbclient), then retry.',
  OPENSSL_MISSING: 'Install it on the host of the mover (package openssl), then attach again.',
  PLATFORM_FAILED: 'Look at the platform, then retry.',
  DATABASE_REFUSED: 'Look at the account of the database server in the estate, then retry.',
  DATABASE_AWAY: 'Look whether the database server runs and can be reached from the mover, then retry.',
  DATABASE_RIGHT_MISSING: 'Give the account the right: the test of the connection names it and what it is for. Then retry.',
  DATABASE_GONE: 'If it was dropped on purpose, nothing has to be done: its points stay until they expire.',
  DATABASE_CHANGED: 'Retry when nobody alters tables.',
  DATABASE_FAILED: 'Look at the database server and its log, then retry.',
  LOG_OFF:
    'Turn the log on at the server and start it again, where its log can be read: until then it can be brought back to points only, not to a second.',
  LOG_DAMAGED: 'Look at the disk of the database server. Take a full at once: the log from there on is good again.',
  LOG_LACKS: 'Choose a moment inside a band, where the log is whole.',
  REPLAY_FAILED: 'The log of the task says at which statement. Choose a moment before it, or another full to begin from.',
  SCRATCH_FAILED:
    'Look at the room on the disk of the mover, and whether the server of that family is installed there, of the same version, then retry.',
  EDITED_REFUSED: 'Correct the text at that place and give it again. Nothing was changed.',
  SCRATCH_GONE: 'Its time was over, somebody ended it, or the mover was started again. Make it once more.',
  TOO_LONG: 'Bring the table back beside the one of now, and compare the two there.',
  DUMP_FAILED: 'The log says what it complained of. Then retry.',
  DUMP_UNREADABLE: 'Restore from another point, or download the text and look at it.',
  PROGRAM_MISSING: 'Install it on the host of the mover (the package of the client programs), then retry.',
  EXISTS_THERE: 'Choose another name, put it beside, or let what is there be replaced. Nothing was changed.',
  TABLE_GONE: 'Somebody renamed or dropped it. Restore it again.',
  NO_KEY: 'Compare the two with a statement of your own.',
  SWAP_REFUSED: 'Nothing was changed.',
  NAME_TOO_LONG: 'Choose a shorter ending for what is put beside. Nothing was changed.',
  READER_ABSENT: 'Start the mover that stands at the source, and look whether it reaches the mover that keeps. Then retry.',
  UNIT_ABSENT:
    'Start it from the recovery medium, let it report in, and look whether it reaches the mover that keeps. Then start the rebuild again.',
  UNIT_LOST:
    'Start it from the recovery medium again and let it report in. Its disks are not to be started from; the rebuild begins them anew.',
  READER_LOST: 'Look at the mover that stands at the source, then retry. What was stored so far is used again.',
  KEEPER_LOST: 'Look at the mover that keeps, then retry.',
  LINK_BROKEN: 'Look who has a hand in the mover that stands at the source. Nothing of it was kept.',
  TENANT_REFUSED: 'Look at the account of that service in the estate (the connection of the tenant tests each), then retry.',
  TENANT_AWAY: 'Look whether the service runs and can be reached from the mover, then retry.',
  TENANT_GONE: 'If they left on purpose, nothing has to be done: the points stay until they expire.',
  TENANT_FAILED: 'Look at the service and its log, then retry.',
  TENANT_FULL: 'Make room there (their quota), or choose another person, then retry.',
  BUCKET_REFUSED: 'Look at the access key of the object storage in the estate, then retry.',
  BUCKET_AWAY: 'Look whether the object storage can be reached from the mover, then retry.',
  BUCKET_GONE:
    'If it was removed on purpose, nothing has to be done: its points stay until they expire, and can be brought back to a new bucket.',
  BUCKET_RIGHT_MISSING: 'Give the account the right: the test of the connection names each and what it is for. Then retry.',
  BUCKET_FAILED: 'Look at the object storage, then retry.',
  OBJECT_GONE: 'Nothing has to be done: it was deleted meanwhile.',
  OBJECT_FROZEN: 'Have the service thaw it, then run again.',
  OBJECT_CHANGED: 'Run again when nobody writes to it.',
  CLUSTER_REFUSED: 'Look at the token of the cluster in the estate, then retry.',
  CLUSTER_AWAY: 'Look whether the cluster can be reached from the mover, then retry.',
  CLUSTER_RIGHT_MISSING: 'Give the account the right: the test of the connection names each and what it is for. Then retry.',
  CLUSTER_FAILED: 'The message says what it refused. Mend that, then retry.',
  APPLICATION_GONE: 'If it was removed on purpose, nothing has to be done: its points stay until they expire, and can be brought back.',
  VOLUME_FAILED: 'Look at the volume and its class on the cluster, then retry.',
  COMMAND_FAILED: 'Look at the pod and what the command wrote (in the log), then retry.',
  NOT_STARTED: 'The log says what each part waits for. Mend it there; what was made stays, and a retry goes on with it.',
  ROWS_DIFFER: 'Nothing was put in place. Retry; if it happens again, restore from another point.',
};

const scriptRemedies: Record<ScriptErrorCode, string> = {
  SCRIPT_REFUSED: 'Put the script into the folder that the mover was started with, so that only its owner can change it, then retry.',
  SCRIPT_FAILED: 'The log holds what it wrote. Mend what it complains of, then retry.',
  SCRIPT_TOO_LONG: 'See in the log what it waits for, or allow it more time in the policy, then retry.',
};

const volumeRemedies: Record<VolumeErrorCode, string> = {
  DISK_DAMAGED: 'Take an older point, or bring the whole disk back and let its own system look at it.',
  NOT_READ: 'Bring the whole disk back, or attach it, and read it with the system it belongs to.',
  NOT_THERE: 'Look into the disk again: it is not in this point.',
};

/** Cause and remedy of what ended a task. */
export function causeOf(error: unknown): Cause {
  if (error instanceof VolumeError) return { code: error.code, message: error.message, remedy: volumeRemedies[error.code] };
  if (error instanceof EngineError) {
    if (error.code === 'STOPPED') return { code: 'STOPPED', message: 'A person stopped it.', remedy: remedies.STOPPED! };
    return { code: error.code, message: error.message, remedy: remedies[error.code] ?? 'See the log for the details, then retry.' };
  }
  if (error instanceof SourceError) return { code: error.code, message: error.message, remedy: sourceRemedies[error.code] };
  if (error instanceof ScannerError)
    return {
      code: error.code,
      message: error.message,
      remedy: 'Look at the scanner on the host of the mover and its settings in mover.json, then retry.',
    };
  if (error instanceof DrillError)
    return {
      code: error.code,
      message: error.message,
      remedy: 'The evidence of the drill says what was looked at and what was found. Mend that, then drill it again.',
    };
  if (error instanceof ScriptError) return { code: error.code, message: error.message, remedy: scriptRemedies[error.code] };
  const code = systemCode(error);
  // one that ran beside the source, at another mover
  if (code !== undefined && code in scriptRemedies)
    return { code, message: (error as Error).message, remedy: scriptRemedies[code as ScriptErrorCode] };
  if (code === 'ENOENT' || code === 'ENOTDIR')
    return {
      code: 'SOURCE_VANISHED',
      message: 'The folder of the source is not there.',
      remedy: 'Connect or mount it again, or change the source, then retry.',
    };
  if (code === 'EACCES' || code === 'EPERM')
    return {
      code: 'SOURCE_REFUSED',
      message: 'The folder of the source may not be read.',
      remedy: 'Give the reading account the right to it, then retry.',
    };
  return {
    code: 'UNEXPECTED',
    message: error instanceof Error ? error.message : String(error),
    remedy: 'See the log for the details, then retry.',
  };
}
