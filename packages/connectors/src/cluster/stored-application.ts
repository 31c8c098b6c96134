import { bytesOfText, kindOf, type Resource } from '@lithodex/core';
import { EngineError, type TreeEntry } from '@lithodex/engine';
import { ApplicationPoint } from '@lithodex/kinds';
import type { OpenPoint } from '../connector';
import { fileContent } from '../file-content';
import { treeOf, type ReadableTree } from '../readable-tree';
import { SourceError } from '../source-error';
import { seriesOf } from './place-of';
import { openedResource, resourcesFolder, volumesFolder } from './resource-files';

const mostResourceBytes = 8 << 20;

export interface StoredResource {
  /** In the point, a byte string. */
  readonly path: string;
  readonly resource: Resource;
  readonly bytes: number;
}

export interface StoredVolume {
  readonly path: string;
  readonly entry: TreeEntry;
  /** The claim that it is of, as the point has it. */
  readonly claim: Resource;
  readonly block: boolean;
}

/** What is picked of an application. */
export interface StoredApplication {
  readonly facts: ApplicationPoint;
  readonly tree: ReadableTree;
  readonly resources: readonly StoredResource[];
  readonly volumes: readonly StoredVolume[];
}

/** What was picked: everything, folders of it, single resources or volumes. Throws CLUSTER_FAILED for what lies in a volume. */
export async function storedApplication(point: OpenPoint, paths: readonly string[]): Promise<StoredApplication> {
  const facts = ApplicationPoint.safeParse(point.root.content.facts).data;
  if (!facts) throw new SourceError('CLUSTER_FAILED', 'the point is not one of an application');
  const tree = treeOf(point.store);
  const folder = async (...path: readonly string[]): Promise<TreeEntry[]> => {
    let at = point.top;
    for (const part of path)
      try {
        at = await tree.trees.find(at, part);
      } catch (error) {
        if (error instanceof EngineError && error.code === 'PATH_MISSING') return [];
        throw error;
      }
    return at.folder ? tree.trees.folder(at.folder.node) : [];
  };
  const isPicked = (path: string) => paths.some((p) => p === '' || p === path || path.startsWith(`${p}/`));
  const all: StoredResource[] = [];
  for (const kind of await folder(resourcesFolder))
    for (const entry of await folder(resourcesFolder, kind.name)) {
      const path = `${resourcesFolder}/${kind.name}/${entry.name}`;
      // claims are needed for what lies in their volumes
      if (!isPicked(path) && kind.name !== 'PersistentVolumeClaim') continue;
      all.push({ path, resource: openedResource(await textOf(tree, entry), entry), bytes: entry.size });
    }
  const claims = new Map(
    all.filter((r) => kindOf(r.resource) === 'PersistentVolumeClaim').map((r) => [bytesOfText(seriesOf(r.resource)), r.resource]),
  );
  const volumes: StoredVolume[] = [];
  for (const entry of await folder(volumesFolder)) {
    const path = `${volumesFolder}/${entry.name}`;
    if (!isPicked(path)) {
      if (paths.some((p) => p.startsWith(`${path}/`)))
        throw new SourceError('CLUSTER_FAILED', 'files of a volume come back with the whole of it, or to a folder');
      continue;
    }
    const block = entry.kind !== 'folder';
    const claim = claims.get(block ? entry.name.replace(/\.img$/, '') : entry.name);
    if (claim) volumes.push({ path, entry, claim, block });
  }
  return { facts, tree, resources: all.filter((r) => isPicked(r.path)), volumes };
}

async function textOf(tree: ReadableTree, entry: TreeEntry): Promise<string> {
  if (entry.size > mostResourceBytes) throw new SourceError('CLUSTER_FAILED', 'a stored resource is too long');
  const parts: Buffer[] = [];
  for await (const part of fileContent(tree, entry)) parts.push(Buffer.from(part));
  return Buffer.concat(parts).toString('utf8');
}
