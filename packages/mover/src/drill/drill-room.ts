import type { DrillCheck, DrillResult } from '@lithodex/contract';
import type { OpenPoint, RestoreContext, RestorePick } from '@lithodex/connectors';
import { countOf, escapePath } from '@lithodex/core';

/** What a drill works with. */
export interface Drilled {
  readonly ctx: RestoreContext;
  /** All of the point. */
  readonly pick: RestorePick;
  readonly point: OpenPoint;
}

/** A place of its own, to which a point is brought back for a while. */
export interface DrillRoom {
  /** What it is, in words. */
  readonly words: string;
  /** Removes what an earlier attempt left. Throws what keeps it from that. */
  clear(): Promise<void>;
  /** Brings all of the point back, started where it is something that starts. Throws what a restore does. */
  bringBack(): Promise<void>;
  /** What is looked at whether anybody asked for it or not. */
  looks(): Promise<DrillResult[]>;
  /** Looks at one thing; undefined where such a thing can not be looked at in it. */
  look(check: DrillCheck): Promise<DrillResult | undefined>;
  /** What a script is told. */
  told(): Readonly<Record<string, string>>;
  /** Removes all of it. Throws what keeps it from that. */
  remove(): Promise<void>;
}

/** What became of the items of a restore. */
export class Restored {
  items = 0;
  bytes = 0;
  failed = 0;
  private first = '';

  add(item: { readonly action: string; readonly bytes: number; readonly path: string; readonly remark: string }): void {
    this.items++;
    if (item.action !== 'failed') this.bytes += item.bytes;
    else if (this.failed++ === 0) this.first = `${escapePath(item.path)}: ${item.remark}`;
  }

  result(): DrillResult {
    const passed = this.failed === 0 && this.items > 0;
    const found = passed
      ? countOf(this.items, 'item')
      : this.items === 0
        ? 'nothing came back'
        : `${countOf(this.failed, 'item')} did not, first ${this.first}`;
    return { what: 'Everything comes back', found, passed };
  }
}
