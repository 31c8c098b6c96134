export { mboxMessage } from './mbox';
export { itemChanges } from './item-changes';
export { memberNow } from './member-now';
export { attachmentOf, viewItem } from './view-item';
