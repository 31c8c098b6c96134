import type { Warned } from '../connector';
import type { MachineWarning, MachineWarningCode } from './capture-machine';

const words: Record<MachineWarningCode, string> = {
  NOT_QUIET:
    'could not be brought to rest, so its disks were taken as after a loss of power; start or install the helper inside to raise that',
  CHANGES_UNKNOWN: 'the platform does not know what changed since the point before, so all of it was read',
  CHANGED_UNSEEN:
    'holds other bytes than the point before, though its size and times are the same: the disk of the source may be failing, or something writes past its file system',
  SNAPSHOT_STAYS: 'its snapshot could not be removed from the platform; the next run tries again',
};

/** What people are told of a warning. */
export function inWords({ code, path, cause }: MachineWarning): Warned {
  return { code, path, message: words[code] + (cause ? ` (${cause})` : ''), missing: false };
}
