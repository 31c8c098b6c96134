import type { Warned } from '../connector';
import type { CaptureWarning, CaptureWarningCode } from './capture-options';

const words: Record<CaptureWarningCode, string> = {
  UNREADABLE: 'could not be read, so it is missing from this point',
  VANISHED: 'vanished while the run was looking',
  CHANGED_WHILE_READ: 'changed while it was read; what was read is kept',
  ATTRIBUTES_UNREADABLE: 'its extended attributes could not be read',
  CHANGED_UNSEEN:
    'holds other bytes than the point before, though its size and times are the same: the disk of the source may be failing, or something writes past its file system',
};

/** What people are told of a warning. */
export function inWords({ code, path, cause }: CaptureWarning): Warned {
  return { code, path, message: words[code] + (cause ? ` (${cause})` : ''), missing: code === 'UNREADABLE' };
}
