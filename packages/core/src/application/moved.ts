import { isList, isObject, kindOf, listAt, textAt, valueAt, withValue, type Json, type JsonObject, type Resource } from './resource';
import { podPathOf } from './restore-steps';

/** A resource in another namespace: who is meant by those of the old one moves with it. */
export function movedTo(resource: Resource, from: string, to: string): Resource {
  if (from === to || kindOf(resource) !== 'RoleBinding.rbac.authorization.k8s.io') return resource;
  const subjects = listAt(resource, 'subjects').map((s) => (isObject(s) && s['namespace'] === from ? { ...s, namespace: to } : s));
  return withValue<JsonObject>(resource, ['subjects'], subjects) as Resource;
}

/** A resource whose pods mount another claim in place of one; undefined where they mount it not. */
export function withClaim(resource: Resource, from: string, to: string): Resource | undefined {
  const path = podPathOf(resource);
  if (!path) return undefined;
  let found = false;
  const volumes = listAt(resource, ...path, 'volumes').map((volume): Json => {
    if (!isObject(volume) || textAt(volume, 'persistentVolumeClaim', 'claimName') !== from) return volume;
    found = true;
    return withValue(volume, ['persistentVolumeClaim', 'claimName'], to);
  });
  return found ? (withValue<JsonObject>(resource, [...path, 'volumes'], volumes) as Resource) : undefined;
}

/** A resource that starts nothing; undefined for one that would start by being there. */
export function atRest(resource: Resource): Resource | undefined {
  switch (kindOf(resource)) {
    case 'Deployment.apps':
    case 'StatefulSet.apps':
      return withValue<JsonObject>(resource, ['spec', 'replicas'], 0) as Resource;
    case 'CronJob.batch':
      return withValue<JsonObject>(resource, ['spec', 'suspend'], true) as Resource;
    case 'DaemonSet.apps':
    case 'Job.batch':
    case 'Pod':
      return undefined;
    default:
      return resource;
  }
}

/** Whether what a resource is to run is there and ready, as it is told. Of kinds that run nothing: always. */
export function isUp(resource: Resource): boolean {
  const kind = kindOf(resource);
  if (kind !== 'Deployment.apps' && kind !== 'StatefulSet.apps') return true;
  const number = (...path: readonly string[]) => Number(valueAt(resource, ...path) ?? 0);
  const wanted = number('spec', 'replicas');
  return (
    number('status', 'observedGeneration') >= number('metadata', 'generation') &&
    number('status', 'readyReplicas') >= wanted &&
    number('status', 'updatedReplicas') >= wanted
  );
}

/** Whether a claim is made by the template of a set of pods, which names it. */
export function isOfTemplate(set: Resource, claim: string): boolean {
  return (
    kindOf(set) === 'StatefulSet.apps' &&
    listAt(set, 'spec', 'volumeClaimTemplates').some((t) => {
      const begins = `${textAt(t, 'metadata', 'name')}-${set.metadata.name}-`;
      return claim.startsWith(begins) && /^\d+$/.test(claim.slice(begins.length));
    })
  );
}

/** The merge patch (RFC 7386) that makes one value the other. Both hold no null. */
export function patchBetween(before: JsonObject, after: JsonObject): JsonObject {
  // gathered beside, as a field may have any name, also one that assigning would take for something else
  const patch = new Map<string, Json>();
  for (const field of Object.keys(before)) if (!Object.hasOwn(after, field)) patch.set(field, null);
  for (const [field, value] of Object.entries(after)) {
    const was = Object.hasOwn(before, field) ? before[field] : undefined;
    if (isObject(was) && isObject(value)) {
      const inner = patchBetween(was, value);
      if (Object.keys(inner).length) patch.set(field, inner);
    } else if (was === undefined || !sameJson(was, value)) patch.set(field, value);
  }
  return Object.fromEntries(patch);
}

/** Whether two values say the same, in whatever order of fields. */
export function sameJson(a: Json, b: Json): boolean {
  if (isList(a) && isList(b)) return a.length === b.length && a.every((v, i) => sameJson(v, b[i]!));
  if (isObject(a) && isObject(b)) {
    const [x, y] = [Object.keys(a), Object.keys(b)];
    return x.length === y.length && x.every((field) => Object.hasOwn(b, field) && sameJson(a[field]!, b[field]!));
  }
  return a === b;
}
