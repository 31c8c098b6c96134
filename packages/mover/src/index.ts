export * from './bounds';
export * from './work/take-point';
export { exportedOf } from './attach/exported';
export { NbdServer, nbdUser } from './attach/nbd-server';
export { Overlay, OverlayRoom } from './attach/overlay';
export * from './mover';
export * from './task-runner';
export * from './api';
export { causeOf } from './causes';
