import type { Cause } from '@lithodex/contract';

/** Why tasks did not start whose window ended while they waited. */
export const windowEnded: Cause = {
  code: 'WINDOW_ENDED',
  message: 'Its window ended before a mover was free for it, so it did not start.',
  remedy: 'Give it a longer window or an earlier start, let it go first, or add a mover.',
};

/** Why a run did not start that came due outside its window. */
export const windowShut: Cause = {
  code: 'WINDOW_CLOSED',
  message: 'It came due while its window was closed, and its policy makes nothing good.',
  remedy: 'Let it come due inside its window, or let the policy make good what was missed.',
};

/** Why a run did not start whose time had passed. */
export const timePassed: Cause = {
  code: 'MISSED',
  message: 'Nothing could start it at its time, and its policy makes nothing good.',
  remedy: 'Start it by hand if it is needed before its next time, or let the policy make good what was missed.',
};
