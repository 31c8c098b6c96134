export * from './values';
export * from './kind';
export * from './share';
export * from './files';
export * from './machine';
export * from './database';
export * from './system';
export * from './kinds';
