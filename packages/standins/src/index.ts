export * from './bucket/service';
export { allFine, type Switches } from './bucket/switches';
export * from './library/service';
export { libraryFine, type LibrarySwitches } from './library/library';
