import { randomUUID } from 'node:crypto';
import { EventEmitter } from 'node:events';
import fs from 'node:fs';
import { apiVersionOf, kindNamed, type ResourceKind } from './resource-kinds';

/** An object of the API. What is inside is whatever its owner wrote. */
export interface Held {
  apiVersion: string;
  kind: string;
  metadata: {
    name: string;
    namespace?: string;
    uid: string;
    resourceVersion: string;
    generation: number;
    creationTimestamp: string;
    labels?: Record<string, string>;
    annotations?: Record<string, string>;
    ownerReferences?: { uid: string; kind: string; name: string; apiVersion: string; controller?: boolean }[];
  };
  spec?: unknown;
  status?: unknown;
  [field: string]: unknown;
}

export interface Changing {
  readonly type: 'ADDED' | 'MODIFIED' | 'DELETED';
  readonly kind: ResourceKind;
  readonly object: Held;
}

const keyOf = (kind: ResourceKind, namespace: string, name: string) => `${kind.group}|${kind.plural}|${namespace}|${name}`;

/** The objects of a cluster, in memory and, where wished, in a file. */
export class ClusterObjects {
  private readonly all = new Map<string, { readonly kind: ResourceKind; readonly object: Held }>();
  private version = 100;
  readonly changes = new EventEmitter<{ change: [Changing] }>().setMaxListeners(0);

  constructor(
    private readonly file: string | undefined,
    private readonly now: () => number,
  ) {
    if (file === undefined || !fs.existsSync(file)) return;
    for (const object of JSON.parse(fs.readFileSync(file, 'utf8')) as Held[]) {
      const kind = kindNamed(object.kind);
      this.all.set(keyOf(kind, object.metadata.namespace ?? '', object.metadata.name), { kind, object });
      this.version = Math.max(this.version, Number(object.metadata.resourceVersion));
    }
  }

  get newest(): string {
    return String(this.version);
  }

  list(kind: ResourceKind, namespace?: string): Held[] {
    return [...this.all.values()]
      .filter((o) => o.kind === kind && (namespace === undefined || o.object.metadata.namespace === namespace))
      .map((o) => o.object);
  }

  of(kind: string, namespace?: string): Held[] {
    return this.list(kindNamed(kind), namespace);
  }

  get(kind: ResourceKind | string, namespace: string, name: string): Held | undefined {
    return this.all.get(keyOf(typeof kind === 'string' ? kindNamed(kind) : kind, namespace, name))?.object;
  }

  /** Everything in a namespace, and what nothing is in any more. */
  everything(): readonly { readonly kind: ResourceKind; readonly object: Held }[] {
    return [...this.all.values()];
  }

  /** Adds or changes an object; the cluster gives what it gives. */
  put(kind: ResourceKind, namespace: string, given: Record<string, unknown>): Held {
    const metadata = given['metadata'] as Held['metadata'];
    const key = keyOf(kind, namespace, metadata.name);
    const before = this.all.get(key)?.object;
    const object = {
      ...given,
      apiVersion: apiVersionOf(kind),
      kind: kind.kind,
      metadata: {
        ...metadata,
        ...(namespace !== '' && { namespace }),
        uid: before?.metadata.uid ?? randomUUID(),
        resourceVersion: String(++this.version),
        generation: (before?.metadata.generation ?? 0) + (JSON.stringify(before?.spec) === JSON.stringify(given['spec']) ? 0 : 1),
        creationTimestamp: before?.metadata.creationTimestamp ?? new Date(this.now()).toISOString().replace(/\.\d+Z$/, 'Z'),
      },
    } as Held;
    this.all.set(key, { kind, object });
    this.changes.emit('change', { type: before ? 'MODIFIED' : 'ADDED', kind, object });
    this.save();
    return object;
  }

  /** Sets what a controller says of an object. Gives whether that is news. */
  say(kind: ResourceKind | string, object: Held, status: unknown): boolean {
    if (JSON.stringify(object.status) === JSON.stringify(status)) return false;
    this.put(typeof kind === 'string' ? kindNamed(kind) : kind, object.metadata.namespace ?? '', { ...object, status });
    return true;
  }

  remove(kind: ResourceKind, namespace: string, name: string): Held | undefined {
    const key = keyOf(kind, namespace, name);
    const object = this.all.get(key)?.object;
    if (!object) return undefined;
    this.all.delete(key);
    this.version++;
    this.changes.emit('change', { type: 'DELETED', kind, object });
    this.save();
    return object;
  }

  private save(): void {
    if (this.file === undefined) return;
    const part = `${this.file}.part`;
    fs.writeFileSync(part, JSON.stringify([...this.all.values()].map((o) => o.object)));
    fs.renameSync(part, this.file);
  }
}
