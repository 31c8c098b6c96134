import { bytesOfText, isObject, kindOf, withSecrets, type JsonObject, type Resource } from '@lithodex/core';
import type { TreeEntry } from '@lithodex/engine';
import { parse, stringify } from 'yaml';
import { z } from 'zod';
import { SourceError } from '../source-error';

const key = 'lithodex.sealed';
export const resourcesFolder = 'resources';
export const volumesFolder = 'volumes';

/** Folder and file of a resource, byte strings. */
export const folderOf = (resource: Resource): string => bytesOfText(kindOf(resource));
export const fileOf = ({ metadata }: Resource): string => bytesOfText(`${metadata.name}.yaml`);

/** A resource as text: the same for the same resource, in whatever order it was told. */
export const textOf = (resource: Resource): string => stringify(resource, { sortMapEntries: true, lineWidth: 0 });

const Readable = z.looseObject({
  apiVersion: z.string().min(1).max(300),
  kind: z.string().min(1).max(260),
  metadata: z.looseObject({ name: z.string().min(1).max(260) }),
});

/** The resource that a text says. Throws CLUSTER_FAILED. */
export function resourceOf(text: string): Resource {
  let read: unknown;
  try {
    read = parse(text, { maxAliasCount: 0 });
  } catch {
    read = undefined;
  }
  const parsed = Readable.safeParse(read);
  if (!parsed.success) throw new SourceError('CLUSTER_FAILED', 'a stored resource can not be read');
  return parsed.data as unknown as Resource;
}

/** The values of a secret go with its entry, where nothing shows them or lets them out. */
export const withSealed = (sealed: JsonObject | null): Pick<TreeEntry, 'attributes'> =>
  sealed ? { attributes: [[key, Buffer.from(JSON.stringify(sealed))]] } : {};

/** A stored resource with its secrets. */
export function openedResource(text: string, { attributes }: Pick<TreeEntry, 'attributes'>): Resource {
  const shown = resourceOf(text);
  const sealed = attributes?.find(([name]) => name === key)?.[1];
  if (!sealed) return shown;
  const values: unknown = JSON.parse(sealed.toString('utf8'));
  return isObject(values as JsonObject) ? withSecrets(shown, values as JsonObject) : shown;
}
