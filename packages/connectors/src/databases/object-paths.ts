import { itemNameOf, objectNameOf } from '@lithodex/core';
import type { OtherType } from './family';

/** Folder of each type of object in the folder of its database. */
const folders: Readonly<Record<'table' | OtherType, string>> = {
  table: 'tables',
  sequence: 'sequences',
  view: 'views',
  routine: 'routines',
  trigger: 'triggers',
  event: 'events',
};
export const objectTypes = Object.keys(folders) as ('table' | OtherType)[];
/** How to make the database itself. */
export const databaseItem = 'database.sql';
/** How to make everything in it but rows, before and after these. */
export const beforeRowsItem = 'before-rows.sql';
export const afterRowsItem = 'after-rows.sql';
const ending = '.sql';

/** Byte string below the folder of a database. */
export function objectPath(type: 'table' | OtherType, name: string): string {
  return `${folders[type]}/${itemNameOf(name)}${ending}`;
}

/** What an item below the folder of a database holds; undefined where it is none of ours. */
export function objectAt(path: string): { readonly type: 'table' | OtherType; readonly name: string } | undefined {
  const [folder, item, ...rest] = path.split('/');
  const type = objectTypes.find((t) => folders[t] === folder);
  if (!type || rest.length || !item?.endsWith(ending)) return undefined;
  return { type, name: objectNameOf(item.slice(0, -ending.length)) };
}
