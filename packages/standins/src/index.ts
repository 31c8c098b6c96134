export * from './bucket/service';
export { allFine, type Switches } from './bucket/switches';
export * from './library/service';
export { libraryFine, type LibrarySwitches } from './library/library';
export * from './platform/service';
export { platformRights, type MachineDescription, type PlatformDescription } from './platform/description';
export { platformFine, type PlatformSwitches } from './platform/switches';
export { fileSystemStart } from './platform/guest-image';
export { buildMachine, letGuestWrite } from './platform/guests';
