export { memoryBlocks, stretchOf, type Blocks, type Stretch } from './blocks';
export { volumesOf, type Volume } from './disk/disks';
export { VolumeError, volumeErrors, type VolumeErrorCode } from './errors';
export type { FileSystem, ItemDetail, VolumeItem, VolumeItemKind } from './file-system';
