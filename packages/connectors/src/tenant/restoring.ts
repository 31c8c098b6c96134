import { grouped } from '@lithodex/core';
import type { RestoreAction } from '@lithodex/core';
import { EngineError, type TreeEntry } from '@lithodex/engine';
import type { Tenant, TenantDestination } from '@lithodex/kinds';
import type { RestoreContext } from '../connector';
import type { ReadableTree } from '../readable-tree';
import { SourceError } from '../source-error';

/** An item on its way back, with the folders it was in. */
export interface ItemBack {
  /** Byte string in the point. */
  readonly path: string;
  readonly entry: TreeEntry;
  readonly tree: ReadableTree;
  /** Name of the folder at the top that it lies in, which tells the service. */
  readonly service: string;
  /** Folders below the top folder of its service, outermost first: names as people know them. */
  readonly folders: readonly string[];
  /** Entries of the same. */
  readonly above: readonly TreeEntry[];
}

/** What restores of one service have in common. */
export class Restoring {
  items = 0;
  readonly acts = new Map<RestoreAction, number>();
  private readonly told = new Set<string>();

  constructor(
    readonly ctx: RestoreContext,
    readonly tenant: Tenant,
    readonly to: TenantDestination,
  ) {}

  /** Where folders go: below the one that was said. */
  placeOf(folders: readonly string[]): string[] {
    return [...this.to.below.split('/').filter(Boolean), ...folders];
  }

  /** Items that were together in a folder, folder after folder. */
  byFolder(items: readonly ItemBack[]): Iterable<ItemBack[]> {
    return grouped(items, (item) => JSON.stringify(item.folders)).values();
  }

  goOn(): void {
    if (this.ctx.stopped()) throw new EngineError('STOPPED');
  }

  async done(path: string, entry: Pick<TreeEntry, 'kind' | 'size'>, action: RestoreAction, remark = ''): Promise<void> {
    this.items++;
    this.told.add(path);
    this.acts.set(action, (this.acts.get(action) ?? 0) + 1);
    this.ctx.done({ path, action, kind: entry.kind, bytes: entry.size, remark });
    await this.ctx.drain();
  }

  async failed(path: string, entry: Pick<TreeEntry, 'kind' | 'size'>, error: unknown): Promise<void> {
    if (error instanceof EngineError && error.code === 'STOPPED') throw error;
    // the others can't be brought back either
    if (error instanceof SourceError && ['TENANT_AWAY', 'TENANT_REFUSED'].includes(error.code)) throw error;
    await this.tellFailed(path, entry, error);
  }

  private async tellFailed(path: string, entry: Pick<TreeEntry, 'kind' | 'size'>, error: unknown): Promise<void> {
    this.items++;
    this.told.add(path);
    const remark = error instanceof Error ? error.message : String(error);
    this.ctx.done({ path, action: 'failed', kind: entry.kind, bytes: entry.size, remark });
    await this.ctx.drain();
  }

  /** A service can't be used: what was not brought back there is told as failed. */
  async gaveUp(items: readonly ItemBack[], error: SourceError): Promise<void> {
    for (const { path, entry } of items) if (!this.told.has(path)) await this.tellFailed(path, entry, error);
  }

  note(message: string): void {
    this.ctx.note({ code: 'COUNTED', path: '', message });
  }
}
