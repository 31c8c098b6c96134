export * from './values';
export * from './kind';
export * from './files';
export * from './machine';
export * from './kinds';
