export * from './addresses';
export * from './outgoing';
export * from './bodies';
export * from './end-on-fault';
