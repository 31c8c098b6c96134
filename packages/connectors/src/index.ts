export * from './files/accounts';
export * from './files/capture';
export * from './files/restore';
export * from './files/compare';
export * from './files/content-check';
export * from './files/probe';
export * from './files/tar-writer';
