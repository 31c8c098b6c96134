export { memoryBlocks, stretchOf, type Blocks, type Stretch } from './blocks';
/** Changes whenever the readers find more, or other names, on a disk than before. */
export const readersVersion = 1;
export { volumesOf, type Volume } from './disk/disks';
export { VolumeError, volumeErrors, type VolumeErrorCode } from './errors';
export { Recent, type FileSystem, type ItemDetail, type VolumeItem, type VolumeItemKind } from './file-system';
