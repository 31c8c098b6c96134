import { kindOf, pointingOf, restoreSteps, stepOf, textAt, type OldPlace, type Resource } from '@lithodex/core';
import type { ApplicationLook, ApplicationTo, Cluster } from '@lithodex/kinds';
import type { OpenPoint } from '../connector';
import { SourceError } from '../source-error';
import { ClusterClient } from './cluster-client';
import { named } from './place-of';
import { onItsWay } from './rewritten';
import { storedApplication, type StoredApplication } from './stored-application';

const most = { changes: 2000, pointing: 500 };
const shownLength = 300;
type Step = ApplicationLook['steps'][number];

/** What would come of bringing what was picked to a place: what changes on the way, and what would still lead to the old place. Writes nothing. */
export async function lookAtPlace(
  point: OpenPoint,
  paths: readonly string[],
  { server, destination: to }: Pick<ApplicationTo, 'server' | 'destination'>,
): Promise<ApplicationLook> {
  const stored = await storedApplication(point, paths);
  const ready = stored.resources.map(({ resource }) => onItsWay(resource, stored.facts.namespace, to.namespace, to.rewrites));
  const look = emptyLook(
    stored,
    ready.map((r) => ({ resource: r.resource, rewritten: r.changed.length > 0 })),
  );
  for (const { resource, changed } of ready)
    for (const { path, before, after, rewrite } of changed) {
      const sealed = isSealed(resource, path);
      look.changes.push({
        kind: kindOf(resource),
        name: resource.metadata.name,
        path: [...path],
        before: shown(before, sealed),
        after: shown(after, sealed),
        rewrite,
      });
    }
  const client = new ClusterClient(server);
  try {
    await lookThere(
      client,
      look,
      stored,
      ready.map((r) => r.resource),
      to,
    );
  } catch (error) {
    if (!(error instanceof SourceError)) throw error;
    look.trouble = error.message.slice(0, 1000);
  } finally {
    await client.close();
  }
  return { ...look, changes: look.changes.slice(0, most.changes), pointing: look.pointing.slice(0, most.pointing) };
}

type Looking = { -readonly [K in keyof ApplicationLook]: ApplicationLook[K] };

function emptyLook(stored: StoredApplication, ready: readonly { readonly resource: Resource; readonly rewritten: boolean }[]): Looking {
  const steps: Step[] = restoreSteps.map((step) => {
    const own = ready.filter((r) => stepOf(r.resource) === step);
    return { step, resources: own.length, rewritten: own.filter((r) => r.rewritten).length, exists: 0 };
  });
  const volumes = stored.volumes.map(({ claim, entry }) => ({
    claim: claim.metadata.name,
    bytes: entry.folder?.bytes ?? entry.size,
    class: textAt(claim, 'spec', 'storageClassName'),
    exists: false,
    goesTo: claim.metadata.name,
  }));
  return { trouble: '', there: false, steps, volumes, changes: [], pointing: [], unknownKinds: [], missingClasses: [], missingRights: [] };
}

const isSealed = (resource: Resource, path: readonly string[]) =>
  kindOf(resource) === 'Secret' && ['data', 'stringData'].includes(path[0] ?? '');
const shown = (value: unknown, sealed: boolean): string =>
  sealed ? '(sealed)' : (typeof value === 'string' ? value : JSON.stringify(value)).slice(0, shownLength);

async function lookThere(
  client: ClusterClient,
  look: Looking,
  stored: StoredApplication,
  resources: readonly Resource[],
  to: ApplicationTo['destination'],
): Promise<void> {
  const kinds = await client.kinds();
  const { namespace } = to;
  look.there = (await client.get(await client.kindNamed('Namespace'), '', namespace)) !== undefined;
  const classes = (await named(client, 'StorageClass', 'storage.k8s.io')).map((c) => c.metadata.name);
  const nodes = (await named(client, 'Node', '')).map((n) => n.metadata.name);
  const missing = new Set<string>();
  const rights = new Set<string>();
  const live = new Map<string, Set<string>>();
  for (const resource of resources) {
    const kind = kinds.find((k) => k.kind === resource.kind && `${k.group}${k.group && '/'}${k.version}` === resource.apiVersion);
    if (!kind) {
      missing.add(`${kindOf(resource)} (${resource.apiVersion})`);
      continue;
    }
    if (resource.kind === 'Namespace') continue;
    const known = kindOf(resource);
    if (!live.has(known)) {
      live.set(known, look.there ? await namesThere(client, kind, namespace) : new Set());
      for (const verb of ['create', ...(look.there && to.exists === 'replace' ? ['patch'] : [])])
        if (!(await client.allows(verb, kind.plural, kind.group, namespace))) rights.add(`${verb} ${kind.plural}`);
    }
    if (live.get(known)!.has(resource.metadata.name)) look.steps.find((s) => s.step === stepOf(resource))!.exists++;
  }
  if (!look.there && !(await client.allows('create', 'namespaces', '', ''))) rights.add('create namespaces');
  const claims =
    live.get('PersistentVolumeClaim') ??
    (look.there ? await namesThere(client, await client.kindNamed('PersistentVolumeClaim'), namespace) : new Set<string>());
  look.volumes = stored.volumes.map(({ claim, entry }) => {
    const made = onItsWay(claim, stored.facts.namespace, namespace, to.rewrites).resource;
    const name = made.metadata.name;
    const exists = claims.has(name);
    return {
      claim: claim.metadata.name,
      bytes: entry.folder?.bytes ?? entry.size,
      class: textAt(made, 'spec', 'storageClassName'),
      exists,
      goesTo: exists && to.exists === 'replace' ? `${name}-${to.stamp}` : name,
    };
  });
  look.missingClasses =
    classes.length === 0
      ? []
      : [...new Set(look.volumes.filter((v) => !v.exists && v.class !== '' && !classes.includes(v.class)).map((v) => v.class))];
  look.unknownKinds = [...missing];
  look.missingRights = [...rights];
  if (isSamePlace(stored, client.cluster, namespace)) return;
  const old = oldPlace(stored, client.cluster, namespace, { classes, nodes });
  for (const resource of resources)
    for (const { path, to: what, names } of pointingOf(resource, old))
      look.pointing.push({ kind: kindOf(resource), name: resource.metadata.name, path: [...path], to: what, names });
}

async function namesThere(client: ClusterClient, kind: Parameters<ClusterClient['list']>[0], namespace: string): Promise<Set<string>> {
  const names = new Set<string>();
  for await (const { metadata } of client.list(kind, namespace)) names.add(metadata.name);
  return names;
}

/** Back to where the point was taken: whatever leads there is right. */
const isSamePlace = ({ facts }: StoredApplication, cluster: Cluster, namespace: string) =>
  facts.namespace === namespace && facts.place.endpoint === cluster.endpoint;

/** What is only at the old place: what is at the new one as well leads nowhere else. */
function oldPlace(
  { facts }: StoredApplication,
  cluster: Cluster,
  namespace: string,
  now: { readonly classes: readonly string[]; readonly nodes: readonly string[] },
): OldPlace {
  const own = [new URL(cluster.endpoint).hostname, ...cluster.domains];
  const { place } = facts;
  return {
    hosts: place.hosts.filter((h) => !own.includes(h) && !/^(localhost|[\d.]+)$/.test(h)),
    addresses: place.addresses,
    nodes: place.nodes.filter((n) => !now.nodes.includes(n)),
    classes: place.classes.filter((c) => !now.classes.includes(c)),
    namespace: facts.namespace === namespace ? '' : facts.namespace,
  };
}
