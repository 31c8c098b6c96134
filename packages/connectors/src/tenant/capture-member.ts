import { topEntry, type TreeEntry } from '@lithodex/engine';
import { tenantTops, topsOf, type TenantFrom, type TenantMember, type TenantPoint, type TenantTop, type Tenant } from '@lithodex/kinds';
import type { CaptureContext, PointContent } from '../connector';
import { SourceError } from '../source-error';
import { captureChat } from './capture-chat';
import { captureDrive } from './capture-drive';
import { captureGroupware } from './capture-groupware';
import { captureMail } from './capture-mail';
import { KeptParts } from './kept-parts';
import { MemberWriting } from './member-writing';

/** New chunks that are made room for. */
const expectedChunks = 131_072;

type Bases = (top: string) => TreeEntry | undefined;
/** One service of a member: the folders it has at the top of a point. */
interface Service {
  readonly tops: readonly string[];
  capture(out: MemberWriting, base: Bases): Promise<readonly TreeEntry[]>;
}

/** What there is of a member, by the services that are connected. */
export function servicesOf(tenant: Tenant, member: TenantMember): Service[] {
  const found: Service[] = [];
  const has = (top: TenantTop) => topsOf(member).includes(top);
  if (has(tenantTops.mail) && tenant.mail)
    found.push({ tops: [tenantTops.mail], capture: async (out, base) => [await captureMail(out, tenant, member, base(tenantTops.mail))] });
  if (has(tenantTops.calendars) && tenant.groupware)
    found.push({
      tops: [tenantTops.calendars, tenantTops.contacts],
      capture: (out, base) => captureGroupware(out, tenant, member, (kind) => base(tenantTops[kind])),
    });
  if (has(tenantTops.drive) && tenant.drives) found.push(filesOf(tenant, member, tenantTops.drive));
  if (has(tenantTops.files) && tenant.sites) found.push(filesOf(tenant, member, tenantTops.files));
  if (has(tenantTops.chat) && tenant.chat)
    found.push({ tops: [tenantTops.chat], capture: async (out, base) => [await captureChat(out, tenant, member, base(tenantTops.chat))] });
  return found;
}

const filesOf = (tenant: Tenant, member: TenantMember, top: string): Service => ({
  tops: [top],
  async capture(out, base) {
    try {
      return [await captureDrive(out, tenant, member, top, base(top))];
    } catch (error) {
      // somebody who never had a drive; one that was there is not let go quietly
      if (error instanceof SourceError && error.code === 'TENANT_GONE' && !base(top) && top === tenantTops.drive) return [];
      throw error;
    }
  },
});

/** Whether a rule that says what it takes may mean anything below a folder at the top. */
const wantedTop = (include: readonly string[], top: string) =>
  include.length === 0 || include.some((pattern) => !pattern.startsWith('/') || pattern === `/${top}` || pattern.startsWith(`/${top}/`));

/** Takes everything of a member. A service that fails leaves the others as they are: what it has is not in the point, and that is said. Throws SourceError when none answers. */
export function captureMember(ctx: CaptureContext, { server, member }: TenantFrom): Promise<PointContent> {
  if (!member) throw new SourceError('TENANT_GONE', 'nobody is named');
  const writing = ctx.store.begin(expectedChunks, ctx.fresh);
  return writing.during(async () => {
    const out = new MemberWriting(ctx, writing);
    const before = ctx.base ? await out.before(topEntry(ctx.base)) : [];
    const tops: TreeEntry[] = [];
    const failures: SourceError[] = [];
    const isWanted = (top: string) => !out.leftOut(top, true) && wantedTop(ctx.include, top);
    const services = servicesOf(server, member).filter((service) => service.tops.some(isWanted));
    const kept = new KeptParts(ctx, out, before);
    for (const service of services) {
      const asBefore = kept.of(service.tops);
      if (asBefore) {
        tops.push(...asBefore);
        continue;
      }
      try {
        tops.push(...(await service.capture(out, (top) => before.find((e) => e.name === top))));
      } catch (error) {
        if (!(error instanceof SourceError)) throw error;
        failures.push(error);
        for (const top of service.tops) {
          out.warn('SERVICE_UNREAD', top, error.message, true);
          tops.push(out.unread(top));
        }
      }
    }
    const [first] = failures;
    if (first && failures.length === services.length) throw first;
    const top = await out.folder('', tops);
    const counts = await writing.finish();
    const facts: TenantPoint = {
      kind: 'tenant',
      type: member.type,
      login: member.login,
      name: member.name,
      mail: '',
      counts: out.counts,
      readAt: kept.readAt,
    };
    return out.pointOf(top, counts, { kind: 'tenant', version: 1, facts, state: {} });
  });
}
