import type { PlatformClient } from './platform-client';

/** What keeps machines, as far as they are read from it: hosts of one's own, or a cloud. Every call throws SourceError. */
export type MachineSource = Pick<
  PlatformClient,
  'session' | 'inventory' | 'machine' | 'takeSnapshot' | 'removeSnapshot' | 'ranges' | 'read' | 'close'
>;
