import type { CloudOffers, PlatformRef } from '@lithodex/kinds';
import { z } from 'zod';
import { bearer, ServiceClient, type ServiceCodes, type ServiceRequest } from '../../service-client';
import { SourceError, sourceErrorOf } from '../../source-error';
import type { Range } from '../platform-types';
import * as answers from './cloud-answers';

const codes: ServiceCodes = {
  refused: 'SIGN_IN_REFUSED',
  forbidden: 'RIGHT_MISSING',
  gone: 'MACHINE_GONE',
  full: 'NO_ROOM_THERE',
  failed: 'PLATFORM_FAILED',
  away: 'SOURCE_AWAY',
};
/** More than the longest answer takes: the ranges of a large disk. */
const mostBytes = 64 << 20;
const sessionEnded = 'SESSION_ENDED';
/** A token is asked for anew so long before it ends, ms, or after half its time. */
const spareMs = 30_000;

interface Session {
  readonly client: ServiceClient;
  readonly ends: number;
}

/** What is asked for a new instance. */
export type NewCloudInstance = Omit<answers.CloudInstance, 'id' | 'address' | 'volumes' | 'snapshots'> & {
  readonly volumes: readonly string[];
  readonly publicAddress: boolean;
};

/** A cloud, as it is asked: signed in by client credentials (RFC 6749, section 4.4), which go to its own address only. Every call throws SourceError. */
export class CloudClient {
  private entering: Promise<Session> | undefined;

  constructor(private readonly ref: Pick<PlatformRef, 'endpoint' | 'opener'>) {}

  async close(): Promise<void> {
    await (await this.entering?.catch(() => undefined))?.client.close();
  }

  private at(path: string): URL {
    return new URL(path, this.ref.endpoint);
  }

  private async enter(): Promise<Session> {
    const { opener } = this.ref;
    if (opener.by !== 'password') throw new SourceError('SIGN_IN_REFUSED', 'a cloud is signed in to by a client and its secret');
    const form = new URLSearchParams({ grant_type: 'client_credentials', client_id: opener.account, client_secret: opener.password });
    const door = new ServiceClient({ name: 'the cloud', authorization: '', authority: null, codes }, 64 << 10);
    try {
      const headers = { 'content-type': 'application/x-www-form-urlencoded' };
      const body = () => form.toString();
      const token = this.parsed(answers.Token, await whole(door, 'POST', this.at('/oauth/token'), { headers, body }));
      const access = { name: 'the cloud', authorization: bearer(token.access_token), authority: null, codes };
      return {
        client: new ServiceClient(access, mostBytes),
        ends: Date.now() + Math.max(token.expires_in * 500, token.expires_in * 1000 - spareMs),
      };
    } finally {
      await door.close();
    }
  }

  /** A session that has not ended; the same for all that ask at once. */
  private async signedIn(): Promise<Session> {
    for (;;) {
      const entering = (this.entering ??= this.enter());
      try {
        const session = await entering;
        if (session.ends > Date.now()) return session;
        this.leave(entering);
      } catch (error) {
        if (this.entering === entering) this.entering = undefined;
        throw error;
      }
    }
  }

  /** Forgets a session, unless another one has its place already. What is under way by it may end. */
  private leave(entering: Promise<Session>): void {
    if (this.entering !== entering) return;
    this.entering = undefined;
    void entering.then(({ client }) => client.close()).catch(() => undefined);
  }

  private async bytes(method: string, path: string, more: ServiceRequest = {}): Promise<Buffer> {
    for (let again = false; ; again = true) {
      const session = await this.signedIn();
      const { entering } = this;
      try {
        return await whole(session.client, method, this.at(path), more);
      } catch (error) {
        // a session can end before its time
        if (again || !(error instanceof SourceError) || error.details !== sessionEnded) throw error;
        if (entering) this.leave(entering);
      }
    }
  }

  private parsed<T extends z.ZodType>(schema: T, body: Buffer): z.infer<T> {
    try {
      return schema.parse(JSON.parse(body.toString()));
    } catch {
      throw new SourceError('PLATFORM_FAILED', 'what answers there is no cloud');
    }
  }

  private async ask<T extends z.ZodType>(schema: T, method: string, path: string, asked?: unknown): Promise<z.infer<T>> {
    const json = asked === undefined ? undefined : JSON.stringify(asked);
    const more = json === undefined ? {} : { headers: { 'content-type': 'application/json' }, body: () => json };
    return this.parsed(schema, await this.bytes(method, path, more));
  }

  account(): Promise<z.infer<typeof answers.Account>> {
    return this.ask(answers.Account, 'GET', '/v1/account');
  }

  catalog(): Promise<CloudOffers> {
    return this.ask(answers.Catalog, 'GET', '/v1/catalog');
  }

  async instances(): Promise<answers.CloudInstance[]> {
    const all: answers.CloudInstance[] = [];
    for (;;) {
      const page = await this.ask(answers.InstancePage, 'GET', `/v1/instances?after=${encodeURIComponent(all.at(-1)?.id ?? '')}`);
      all.push(...page.rows);
      if (!page.more || !page.rows.length) return all;
    }
  }

  instance(id: string): Promise<answers.CloudInstance> {
    return this.ask(answers.CloudInstance, 'GET', at('instances', id));
  }

  makeInstance(asked: NewCloudInstance): Promise<answers.CloudInstance> {
    return this.ask(answers.CloudInstance, 'POST', '/v1/instances', asked);
  }

  changeInstance(id: string, changes: Partial<Pick<answers.CloudInstance, 'name' | 'note' | 'running' | 'tags'>>): Promise<unknown> {
    return this.ask(z.unknown(), 'PATCH', at('instances', id), changes);
  }

  async removeInstance(id: string): Promise<void> {
    await this.bytes('DELETE', at('instances', id));
  }

  async makeGroup(region: string, name: string): Promise<void> {
    await this.ask(z.unknown(), 'POST', '/v1/groups', { region, name });
  }

  takeSnapshot(id: string, name: string): Promise<z.infer<typeof answers.TakenVolumes>> {
    return this.ask(answers.TakenVolumes, 'POST', `${at('instances', id)}/snapshots`, { name });
  }

  async removeSnapshot(id: string, snapshot: string): Promise<void> {
    await this.bytes('DELETE', `${at('instances', id)}/snapshots/${encodeURIComponent(snapshot)}`);
  }

  /** Volumes of a region that no instance has. */
  async freeVolumes(region: string): Promise<answers.CloudVolume[]> {
    return (await this.ask(answers.VolumePage, 'GET', `/v1/volumes?region=${encodeURIComponent(region)}`)).rows;
  }

  makeVolume(asked: Pick<answers.CloudVolume, 'region' | 'class' | 'label' | 'size' | 'tags'>): Promise<answers.CloudVolume> {
    return this.ask(answers.CloudVolume, 'POST', '/v1/volumes', asked);
  }

  async tagVolume(id: string, tags: readonly string[]): Promise<void> {
    await this.ask(z.unknown(), 'PATCH', at('volumes', id), { tags });
  }

  async removeVolume(id: string): Promise<void> {
    await this.bytes('DELETE', at('volumes', id));
  }

  /** Ranges of a volume that were written: ever, or since a change id; of a snapshot, or of now. Throws CHANGES_UNKNOWN. */
  ranges(volume: string, which: { readonly snapshot?: string | undefined; readonly since?: string | undefined }): Promise<Range[]> {
    const query = new URLSearchParams(Object.entries(which).filter((pair): pair is [string, string] => pair[1] !== undefined));
    return this.ask(answers.Ranges, 'GET', `${at('volumes', volume)}/ranges?${query.toString()}`);
  }

  /** The bytes of ranges, one behind the other. */
  async read(volume: string, ranges: readonly Range[], snapshot?: string): Promise<Buffer> {
    const query = snapshot === undefined ? '' : `?snapshot=${encodeURIComponent(snapshot)}`;
    const body = JSON.stringify({ ranges });
    const data = await this.bytes('POST', `${at('volumes', volume)}/read${query}`, { body: () => body });
    if (data.length !== ranges.reduce((sum, [, n]) => sum + n, 0)) throw new SourceError('PLATFORM_FAILED', 'it sent too little');
    return data;
  }

  /** SHA-256 of ranges of a volume as the cloud reads them, hexadecimal. */
  async sums(volume: string, ranges: readonly Range[]): Promise<string[]> {
    const { sums } = await this.ask(answers.Sums, 'POST', `${at('volumes', volume)}/sums`, { ranges });
    if (sums.length !== ranges.length) throw new SourceError('PLATFORM_FAILED', 'it sent too few sums');
    return sums;
  }

  async staged(): Promise<string[]> {
    return (await this.ask(answers.Staged, 'GET', '/v1/staging')).names;
  }

  /** Puts a piece of an object at its place. */
  async stage(name: string, offset: number, piece: Uint8Array): Promise<void> {
    await this.bytes('PUT', `${at('staging', name)}?offset=${offset}`, { body: () => piece });
  }

  async dropStaged(name: string): Promise<void> {
    await this.bytes('DELETE', at('staging', name));
  }

  /** Has a staged image written over what a volume holds. */
  beginImport(staged: string, sha256: string, volume: string): Promise<z.infer<typeof answers.ImportJob>> {
    return this.ask(answers.ImportJob, 'POST', '/v1/imports', { staged, sha256, volume });
  }

  importJob(id: string): Promise<z.infer<typeof answers.ImportJob>> {
    return this.ask(answers.ImportJob, 'GET', at('imports', id));
  }
}

const at = (what: string, id: string) => `/v1/${what}/${encodeURIComponent(id)}`;

/** The whole answer. Throws what the cloud says of its refusal. */
async function whole(client: ServiceClient, method: string, url: URL, more: ServiceRequest): Promise<Buffer> {
  const { statusCode, body } = await client.request(method, url, more);
  const data = Buffer.from(
    await body.arrayBuffer().catch((error: unknown) => {
      throw client.awayOf(error);
    }),
  );
  if (statusCode < 300) return data;
  let refusal: z.infer<typeof answers.Refusal>;
  try {
    refusal = answers.Refusal.parse(JSON.parse(data.toString()));
  } catch {
    throw client.refusal(statusCode);
  }
  const { code, message } = refusal;
  throw code === sessionEnded ? new SourceError('SIGN_IN_REFUSED', code) : sourceErrorOf(code, message.slice(0, 500));
}
