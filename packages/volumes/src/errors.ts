/** Every error of reading disks, by stable code. */
export const volumeErrors = {
  DISK_DAMAGED: 'What the disk holds at this place is damaged.',
  NOT_READ: 'This is not read from inside a disk.',
  NOT_THERE: 'The disk does not hold this.',
} as const;

export type VolumeErrorCode = keyof typeof volumeErrors;

export class VolumeError extends Error {
  constructor(
    readonly code: VolumeErrorCode,
    readonly details = '',
    options?: { cause?: unknown },
  ) {
    super(details ? `${volumeErrors[code]} (${details})` : volumeErrors[code], options);
    this.name = 'VolumeError';
  }
}

/** Damage, told where it was met. */
export function damaged(where: string): VolumeError {
  return new VolumeError('DISK_DAMAGED', where);
}

/** What parsing hostile bytes threw, as damage; errors of the block source itself pass. */
export function asDamage(error: unknown, where: string): unknown {
  return error instanceof RangeError ? new VolumeError('DISK_DAMAGED', where, { cause: error }) : error;
}
