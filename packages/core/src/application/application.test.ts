import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { asWritten, isDerived, withoutSecrets, withSecrets } from './own-fields';
import { atRest, isOfTemplate, isUp, movedTo, patchBetween, sameJson, withClaim } from './moved';
import { namesWord, pointingOf } from './pointing';
import { isObject, kindOf, valueAt, withValue, type Json, type JsonObject, type Resource } from './resource';
import { inRestoreOrder, stepOf } from './restore-steps';
import { pathMatches, readableSecret, rewriteResource } from './rewrites';

const resource = (kind: string, more: object = {}, apiVersion = 'v1', name = 'one'): Resource => ({
  apiVersion,
  kind,
  metadata: { name },
  ...more,
});
const deployment = (spec: object): Resource => resource('Deployment', { spec }, 'apps/v1', 'board');

/** Values without null, as resources have them. */
const json = fc.letrec<{ value: Json }>((tie) => ({
  value: fc.oneof(
    { depthSize: 'small' },
    fc.string(),
    fc.integer(),
    fc.boolean(),
    fc.array(tie('value'), { maxLength: 3 }),
    fc.dictionary(fc.string(), tie('value'), { maxKeys: 4 }),
  ),
})).value;
const object = fc.dictionary(fc.string(), json, { maxKeys: 5 });

/** A merge patch as RFC 7386 says it. */
function merged(target: Json | undefined, patch: Json): Json {
  if (!isObject(patch)) return patch;
  const result = new Map<string, Json>(isObject(target) ? Object.entries(target) : []);
  for (const [field, value] of Object.entries(patch))
    if (value === null) result.delete(field);
    else result.set(field, merged(result.get(field), value));
  return Object.fromEntries(result);
}

describe('a resource as its owner wrote it', () => {
  it('has nothing that the cluster adds, and stays the same when it is read again', () => {
    const service = resource('Service', {
      metadata: { name: 'one', uid: 'u', resourceVersion: '7', annotations: { 'pv.kubernetes.io/x': '1', mine: 'yes' } },
      spec: { clusterIP: '10.0.0.1', clusterIPs: ['10.0.0.1'], ports: [{ port: 80, nodePort: 30_001 }] },
      status: { loadBalancer: {} },
    });
    const written = asWritten(service);
    expect(written).toEqual(
      resource('Service', { metadata: { name: 'one', annotations: { mine: 'yes' } }, spec: { ports: [{ port: 80 }] } }),
    );
    expect(asWritten(written)).toEqual(written);
    expect(asWritten(resource('Service', { spec: { clusterIP: 'None' } }))['spec']).toEqual({ clusterIP: 'None' });
  });

  it('is left out where the cluster makes it of another one', () => {
    expect(isDerived(resource('Pod', { metadata: { name: 'p', ownerReferences: [{ controller: true }] } }))).toBe(true);
    expect(isDerived(resource('Pod'))).toBe(false);
    expect(isDerived(resource('Event', {}, 'events.k8s.io/v1'))).toBe(true);
    expect(isDerived(resource('ConfigMap', {}, 'v1', 'kube-root-ca.crt'))).toBe(true);
    expect(isDerived(resource('Secret', { type: 'kubernetes.io/service-account-token' }))).toBe(true);
  });

  it('keeps the values of a secret apart, and gets them back', () => {
    fc.assert(
      fc.property(fc.dictionary(fc.string({ minLength: 1 }), fc.base64String(), { minKeys: 1 }), (data) => {
        const secret = resource('Secret', { data });
        const { shown, sealed } = withoutSecrets(secret);
        expect(Object.values(shown['data'] as object).every((v) => v === '(sealed)')).toBe(true);
        expect(withSecrets(shown, sealed)).toEqual(secret);
      }),
    );
  });
});

describe('rewrites', () => {
  it('reach fields by a path, texts everywhere, and whole values of their type', () => {
    const from = deployment({
      replicas: 4,
      template: { spec: { nodeSelector: { pier: 'east' }, containers: [{ image: 'old.example/board:3' }] } },
    });
    const { resource: now, changed } = rewriteResource(from, [
      { kind: '', path: '', from: 'old.example', to: 'new.example' },
      { kind: 'Deployment', path: 'spec.replicas', from: '', to: '2' },
      { kind: 'Deployment.apps', path: 'spec.template.spec.nodeSelector.*', from: '', to: 'rock' },
      { kind: 'Service', path: '**', from: 'board', to: 'nothing' },
    ]);
    expect(now['spec']).toEqual({
      replicas: 2,
      template: { spec: { nodeSelector: { pier: 'rock' }, containers: [{ image: 'new.example/board:3' }] } },
    });
    expect(changed.map((c) => c.path.join('.')).sort()).toEqual([
      'spec.replicas',
      'spec.template.spec.containers.0.image',
      'spec.template.spec.nodeSelector.pier',
    ]);
  });

  it('never change what a resource is, and tell every value that they change', () => {
    fc.assert(
      fc.property(object, fc.string({ minLength: 1 }), fc.string(), (spec, from, to) => {
        const before = resource('ConfigMap', { data: spec });
        const { resource: after, changed } = rewriteResource(before, [{ kind: '', path: '', from, to }]);
        expect([after.apiVersion, after.kind]).toEqual(['v1', 'ConfigMap']);
        for (const c of changed) expect(c.before).not.toBe(c.after);
        expect(changed.length === 0).toBe(sameJson(before, after));
      }),
    );
  });

  it('match paths in steps that do not grow with tries', () => {
    expect(pathMatches(['a', '**', 'z'], ['a', 'b', 'c', 'z'])).toBe(true);
    expect(pathMatches(['**'], [])).toBe(true);
    expect(pathMatches(['a', '*'], ['a'])).toBe(false);
    expect(
      pathMatches(
        Array.from({ length: 60 }, () => '**'),
        [...Array.from({ length: 60 }, () => 'a'), 'b'],
      ),
    ).toBe(true);
  });

  it('read the values of secrets that are text', () => {
    const decode = (text: string) => (text === 'AAE=' ? undefined : atob(text));
    expect(readableSecret({ data: { a: btoa('relay'), b: 'AAE=' } }, decode)).toEqual({ data: { b: 'AAE=' }, stringData: { a: 'relay' } });
  });
});

describe('what still leads to the old place', () => {
  const old = {
    hosts: ['jetty.example', 'tides.jetty.example'],
    addresses: ['10.9.0.4'],
    nodes: ['jetty-1'],
    classes: ['fast'],
    namespace: 'tides',
  };
  it('is found as a word of its own, in any value', () => {
    const found = pointingOf(
      resource('ConfigMap', {
        data: {
          url: 'https://tides.jetty.example/',
          ip: 'http://10.9.0.4:80',
          other: '10.9.0.40 and ajetty.examples',
          dns: 'db.tides.svc.cluster.local',
        },
        spec: { storageClassName: 'fast', nodeName: 'jetty-1', speed: 'fast' },
      }),
      old,
    );
    expect(found.map((f) => `${f.path.join('.')} ${f.to} ${f.names}`)).toEqual([
      'data.url host tides.jetty.example',
      'data.ip address 10.9.0.4',
      'data.dns namespace tides',
      'spec.storageClassName class fast',
      'spec.nodeName node jetty-1',
    ]);
    expect(namesWord('jetty2', 'jetty')).toBe(false);
    expect(namesWord('relay.jetty', 'jetty')).toBe(true);
  });
});

describe('the way of a resource', () => {
  it('is in order: rights, volumes, config, what runs last of all work, routes', () => {
    const all = [
      resource('Ingress', {}, 'networking.k8s.io/v1'),
      deployment({}),
      resource('Service'),
      resource('Secret'),
      resource('PersistentVolumeClaim'),
      resource('ServiceAccount'),
    ];
    expect(inRestoreOrder(all).map((r) => r.kind)).toEqual([
      'ServiceAccount',
      'PersistentVolumeClaim',
      'Secret',
      'Service',
      'Deployment',
      'Ingress',
    ]);
    expect(stepOf(resource('TideTable', {}, 'harbour.example/v1'))).toBe('work');
  });

  it('is patched to exactly what is wanted', () => {
    fc.assert(
      fc.property(object, object, (before, after) => {
        expect(sameJson(merged(before, patchBetween(before, after)), after)).toBe(true);
        expect(patchBetween(after, after)).toEqual({});
      }),
    );
    const odd = JSON.parse('{"__proto__":{"replicas":3},"kept":1}') as JsonObject;
    expect(Object.keys(patchBetween({ kept: 1 }, odd))).toEqual(['__proto__']);
    expect(JSON.stringify(patchBetween(odd, { kept: 1 }))).toBe('{"__proto__":null}');
  });

  it('mounts other claims, moves its subjects, rests, and is up when its pods are', () => {
    const pods = { template: { spec: { volumes: [{ name: 'd', persistentVolumeClaim: { claimName: 'data' } }] } } };
    const switched = withClaim(deployment(pods), 'data', 'data-2')!;
    expect(JSON.stringify(switched)).toContain('"claimName":"data-2"');
    expect(withClaim(deployment(pods), 'other', 'x')).toBeUndefined();
    const binding = resource(
      'RoleBinding',
      {
        subjects: [
          { name: 'a', namespace: 'old' },
          { name: 'b', namespace: 'kept' },
        ],
      },
      'rbac.authorization.k8s.io/v1',
    );
    expect(movedTo(binding, 'old', 'new')['subjects']).toEqual([
      { name: 'a', namespace: 'new' },
      { name: 'b', namespace: 'kept' },
    ]);
    expect(atRest(deployment({ replicas: 3 }))!['spec']).toEqual({ replicas: 0 });
    expect(atRest(resource('Job', {}, 'batch/v1'))).toBeUndefined();
    const running = {
      metadata: { name: 'board', generation: 2 },
      spec: { replicas: 2 },
      status: { observedGeneration: 2, readyReplicas: 2, updatedReplicas: 2 },
    };
    expect(isUp({ ...deployment({}), ...running })).toBe(true);
    expect(isUp({ ...deployment({}), ...running, status: { observedGeneration: 1, readyReplicas: 2, updatedReplicas: 2 } })).toBe(false);
    const set = resource('StatefulSet', { spec: { volumeClaimTemplates: [{ metadata: { name: 'data' } }] } }, 'apps/v1', 'db');
    expect([isOfTemplate(set, 'data-db-0'), isOfTemplate(set, 'data-db'), isOfTemplate(set, 'data-db-x')]).toEqual([true, false, false]);
  });

  it('sets and takes away single values, and leaves the rest', () => {
    const value: JsonObject = { a: { b: 1, c: 2 } };
    expect(withValue(value, ['a', 'b'], undefined)).toEqual({ a: { c: 2 } });
    expect(valueAt(withValue(value, ['x', 'y'], 3), 'x', 'y')).toBe(3);
    expect(kindOf(deployment({}))).toBe('Deployment.apps');
  });
});
