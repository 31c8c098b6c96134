export { layoutOf, mailStoresBelow } from './open-mail-store';
export { folderThere } from './stored-mailbox';
