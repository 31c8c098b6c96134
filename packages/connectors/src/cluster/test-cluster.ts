import { countOf } from '@lithodex/core';
import type { Cluster, SystemTest } from '@lithodex/kinds';
import { ClusterClient } from './cluster-client';
import { namespacesOf } from './found-applications';
import { freezableClasses } from './frozen-volumes';
import { named } from './place-of';

/** What a backup and a restore do, and what for. `everywhere`: it belongs to no namespace. */
const needed: readonly (readonly [verb: string, resource: string, group: string, neededFor: string, everywhere?: true])[] = [
  ['list', 'namespaces', '', 'to find what there is, and what is new', true],
  ['list', 'configmaps', '', 'to back them up'],
  ['list', 'secrets', '', 'to back them up, sealed'],
  ['list', 'deployments', 'apps', 'to back them up'],
  ['list', 'persistentvolumeclaims', '', 'to find volumes'],
  ['create', 'persistentvolumeclaims', '', 'to read a volume from its snapshot, and to bring volumes back'],
  ['delete', 'persistentvolumeclaims', '', 'to take away what a run made for itself'],
  ['create', 'volumesnapshots', 'snapshot.storage.k8s.io', 'to freeze volumes'],
  ['delete', 'volumesnapshots', 'snapshot.storage.k8s.io', 'to take snapshots away again'],
  ['create', 'pods', '', 'for the helper that reads and fills volumes'],
  ['delete', 'pods', '', 'to take the helper away again'],
  ['create', 'pods/exec', '', 'to read and fill volumes, and to bring applications to rest'],
  ['list', 'nodes', '', 'to find what would still lead here when an application moves', true],
  ['patch', 'deployments', 'apps', 'to bring them back'],
  ['create', 'namespaces', '', 'to bring an application back where there is none', true],
];

const freezing = 'create volumesnapshots';

/** Signs in and looks whether the account may do what is needed. Changes nothing. Throws SourceError. */
export async function testCluster(cluster: Cluster): Promise<SystemTest> {
  const client = new ClusterClient(cluster);
  try {
    const version = await client.version();
    const [first = ''] = cluster.namespaces;
    const needs: SystemTest['needs'] = [];
    for (const [verb, resource, group, neededFor, everywhere] of needed)
      needs.push({
        right: `${verb} ${resource}`,
        neededFor,
        missing: !(await client.allows(verb, resource, group, everywhere ? '' : first)),
      });
    const lists = !needs[0]!.missing;
    const spaces = lists || cluster.namespaces.length ? await namespacesOf(client) : [];
    const frozen = await frozenRemark(client);
    const answers = `The cluster answers, in version ${version.replace(/^v/, '')}`;
    return {
      // one that holds nothing yet may be where an application goes
      ok: spaces.length > 0 || lists,
      message:
        spaces.length === 0 && !lists
          ? `${answers}, but there is no namespace that the account may see.`
          : needs.some((n) => n.missing)
            ? `${answers}; not everything is allowed.`
            : `${answers}, and the account may do what is needed.`,
      needs,
      remarks: needs.map((n) => (n.right === freezing ? frozen : '')),
      credentialEnds: endOfToken(cluster.token),
      found: spaces.length,
    };
  } finally {
    await client.close();
  }
}

async function frozenRemark(client: ClusterClient): Promise<string> {
  const classes = (await named(client, 'StorageClass', 'storage.k8s.io')).map((c) => c.metadata.name);
  const frozen = await freezableClasses(client);
  const not = classes.filter((c) => !frozen.has(c));
  if (classes.length === 0) return 'It tells no classes of volumes.';
  if (not.length === 0) return `Volumes of ${countOf(classes.length, 'class', 'classes')} can be frozen for a moment.`;
  return `Volumes of ${not.join(', ')} can not be frozen: they are read while they are used.`;
}

/** When a token ends, ms: those that clusters give to accounts say it (RFC 7519); null for others. */
export function endOfToken(token: string): number | null {
  const body = token.split('.')[1];
  if (body === undefined) return null;
  try {
    const said = JSON.parse(Buffer.from(body, 'base64url').toString()) as { exp?: unknown };
    return typeof said.exp === 'number' && said.exp > 0 && said.exp < 8e12 ? said.exp * 1000 : null;
  } catch {
    return null;
  }
}
