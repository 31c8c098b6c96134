export * from './bucket/service';
export { allFine, type Switches } from './bucket/switches';
