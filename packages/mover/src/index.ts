export * from './bounds';
export * from './work/take-point';
export * from './mover';
export * from './task-runner';
export * from './api';
export { causeOf } from './causes';
