import type { TreeEntry } from '@lithodex/engine';
import { countedAs, tenantTopNames, TenantPoint, type TenantTop } from '@lithodex/kinds';
import type { CaptureContext } from '../connector';
import type { MemberWriting } from './member-writing';

const isTop = (name: string): name is TenantTop => (tenantTopNames as readonly string[]).includes(name);
const sameTexts = (a: readonly string[], b: readonly string[]) => a.length === b.length && a.every((text, i) => text === b[i]);

/** Parts of a member that a run does not read, as they are in the point before: so that each point holds everything, and says how old it is. */
export class KeptParts {
  /** When what was kept had been read, ms. */
  readonly readAt: TenantPoint['readAt'] = {};
  private readonly facts: TenantPoint | undefined;

  constructor(
    private readonly ctx: CaptureContext,
    private readonly out: MemberWriting,
    private readonly before: readonly TreeEntry[],
  ) {
    this.facts = TenantPoint.safeParse(ctx.base?.content.facts).data;
  }

  /** The folders of a service as they are in the point before; undefined where it is to be read: asked for, not whole before, or chosen by other patterns. */
  of(tops: readonly string[]): TreeEntry[] | undefined {
    const { base, parts, include, exclude } = this.ctx;
    // what was not whole is tried again
    if (!base || base.warnings > 0 || !this.facts || !parts.length || tops.some((top) => parts.includes(top))) return undefined;
    if (!sameTexts(base.leftOut.include, include) || !sameTexts(base.leftOut.exclude, exclude)) return undefined;
    const entries = this.before.filter((e) => tops.includes(e.name));
    if (!entries.length || entries.some((e) => !e.folder || e.unread)) return undefined;
    for (const entry of entries) this.keep(entry, this.facts, base.moment);
    return entries;
  }

  private keep({ name, folder }: TreeEntry, { counts, readAt }: TenantPoint, moment: number): void {
    if (!isTop(name)) return;
    this.readAt[name] = readAt[name] ?? moment;
    this.out.kept({ items: folder!.items + 1, bytes: folder!.bytes }, countedAs[name], counts[countedAs[name]]);
  }
}
