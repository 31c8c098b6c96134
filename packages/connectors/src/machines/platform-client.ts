import { createSign } from 'node:crypto';
import http from 'node:http';
import https from 'node:https';
import { AddressRefused, bytesOf, checkHost, guardedLookup, TooMuch } from '@lithodex/net';
import { z } from 'zod';
import { isSourceError, SourceError, sourceErrorOf } from '../source-error';
import type {
  InsideAccount,
  MachineSettings,
  NetworkDisk,
  PlatformAddress,
  PlatformDisk,
  PlatformInventory,
  PlatformMachine,
  Range,
  SnapshotAt,
  StorageSnapshot,
  TakenSnapshot,
} from './platform-types';

const silenceMs = 60_000;
/** More than the inventory of a large platform takes. */
const mostBytes = 64 << 20;
/** Room for an answer that is an error. */
const refusalBytes = 64 << 10;

interface Answer {
  readonly status: number;
  readonly body: Buffer;
}

/** A session at a virtualization platform. Every call throws SourceError. */
export class PlatformClient {
  private readonly agent: http.Agent;
  private readonly secure: boolean;
  private token: Promise<string> | undefined;

  constructor(private readonly address: PlatformAddress) {
    this.secure = address.endpoint.startsWith('https:');
    const options = { keepAlive: true, maxSockets: 8, lookup: guardedLookup };
    this.agent = this.secure ? new https.Agent(options) : new http.Agent(options);
  }

  close(): void {
    this.agent.destroy();
  }

  private request(method: string, path: string, token: string, body: readonly Uint8Array[], most = mostBytes): Promise<Answer> {
    return new Promise((resolve, reject) => {
      const away = (error: Error) => {
        // only what the system says: what something that is no platform says is not passed on
        const code = (error as { code?: unknown }).code;
        reject(
          error instanceof AddressRefused
            ? new SourceError('SOURCE_AWAY', error.message.replace(/\.$/, ''))
            : new SourceError('SOURCE_AWAY', typeof code === 'string' && /^E[A-Z]+$/.test(code) ? code : 'it can not be reached'),
        );
      };
      const url = new URL(path, this.address.endpoint);
      checkHost(url.hostname);
      const length = body.reduce((sum, part) => sum + part.length, 0);
      const request = (this.secure ? https : http).request(
        url,
        { method, agent: this.agent, timeout: silenceMs, headers: { authorization: `Bearer ${token}`, 'content-length': length } },
        (response) => {
          const known = Number(response.headers['content-length']);
          bytesOf(response, most, Number.isFinite(known) ? known : undefined).then(
            (answer) => {
              if (Number.isFinite(known) && answer.length !== known) away(new Error('the answer was cut short'));
              else resolve({ status: response.statusCode ?? 0, body: answer });
            },
            (error: unknown) => {
              request.destroy();
              if (error instanceof TooMuch) reject(new SourceError('PLATFORM_FAILED', 'it sent more than makes sense'));
              else away(error as Error);
            },
          );
        },
      );
      request.on('timeout', () => request.destroy(new Error('no answer in time')));
      request.on('error', away);
      for (const part of body) request.write(part);
      request.end();
    });
  }

  private async plain<T>(method: string, path: string, token: string, body?: unknown): Promise<T> {
    const { status, body: answer } = await this.request(method, path, token, body === undefined ? [] : [Buffer.from(JSON.stringify(body))]);
    return jsonOf<T>(status, answer);
  }

  private async enter(): Promise<string> {
    const { opener } = this.address;
    if (opener.by === 'password') {
      const { account, password } = opener;
      return (await this.plain<{ token: string }>('POST', '/v1/sessions', '', { account, password })).token;
    }
    const { challenge } = await this.plain<{ challenge: string }>('POST', '/v1/challenges', '', {});
    let signature: string;
    try {
      signature = createSign('sha256').update(challenge).sign(opener.key, 'base64');
    } catch {
      throw new SourceError('SIGN_IN_REFUSED', 'the key of the certificate can not be read');
    }
    const { certificate } = opener;
    return (await this.plain<{ token: string }>('POST', '/v1/sessions', '', { certificate, challenge, signature })).token;
  }

  /** Signs in where that is needed, once more where the session has ended meanwhile. */
  private async call(method: string, path: string, body: readonly Uint8Array[], most?: number): Promise<Buffer> {
    for (let again = false; ; again = true) {
      this.token ??= this.enter();
      let token: string;
      try {
        token = await this.token;
      } catch (error) {
        this.token = undefined;
        throw error;
      }
      const { status, body: answer } = await this.request(method, path, token, body, most);
      if (status === 401 && !again) {
        this.token = undefined;
        continue;
      }
      if (status >= 300) jsonOf(status, answer);
      return answer;
    }
  }

  private async ask<T>(method: string, path: string, body?: unknown): Promise<T> {
    return jsonOf<T>(200, await this.call(method, path, body === undefined ? [] : [Buffer.from(JSON.stringify(body))]));
  }

  session(): Promise<{ account: string; rights: string[]; passwordEnds: number | null }> {
    return this.ask('GET', '/v1/session');
  }

  inventory(): Promise<PlatformInventory> {
    return this.ask('GET', '/v1/inventory');
  }

  machine(id: string): Promise<PlatformMachine> {
    return this.ask('GET', `/v1/machines/${encodeURIComponent(id)}`);
  }

  create(
    settings: MachineSettings,
    disks: readonly (Omit<PlatformDisk, 'id'> & { readonly remote?: NetworkDisk })[],
  ): Promise<PlatformMachine> {
    return this.ask('POST', '/v1/machines', { ...settings, disks });
  }

  change(id: string, changes: Partial<MachineSettings>): Promise<PlatformMachine> {
    return this.ask('PUT', `/v1/machines/${encodeURIComponent(id)}`, changes);
  }

  /** Has a disk that lies in the network copied to a storage, at so many bytes a second. */
  async copyDisk(id: string, disk: string, to: { storage: string; pace: number | null }): Promise<void> {
    await this.ask('POST', `${diskPath(id, disk)}/copy`, to);
  }

  /** Lets the disks of a machine lie where they were copied to. */
  async cutOver(id: string): Promise<void> {
    await this.ask('POST', `/v1/machines/${encodeURIComponent(id)}/cutover`);
  }

  async remove(id: string): Promise<void> {
    await this.ask('DELETE', `/v1/machines/${encodeURIComponent(id)}`);
  }

  /** Signs in to the system inside a machine and does nothing there. Throws INSIDE_REFUSED, MACHINE_OFF. */
  signInInside(id: string, account: InsideAccount): Promise<{ system: string }> {
    return this.ask('POST', `/v1/machines/${encodeURIComponent(id)}/inside`, account);
  }

  /** Asks for something inside a machine that runs. */
  async askInside(id: string, act: string, body: readonly Uint8Array[]): Promise<unknown> {
    return jsonOf(200, await this.call('POST', `/v1/machines/${encodeURIComponent(id)}/files/${act}`, body));
  }

  /** `quiesce`: bring programs to rest first, by the helper inside or else by an account there. */
  takeSnapshot(id: string, name: string, quiesce: boolean, inside?: InsideAccount): Promise<TakenSnapshot> {
    return this.ask('POST', `/v1/machines/${encodeURIComponent(id)}/snapshots`, { name, quiesce, inside });
  }

  async removeSnapshot(id: string, snapshot: string): Promise<void> {
    await this.ask('DELETE', `/v1/machines/${encodeURIComponent(id)}/snapshots/${encodeURIComponent(snapshot)}`);
  }

  /** Has a storage keep all its disks as they are. */
  takeStorageSnapshot(storage: string, name: string): Promise<StorageSnapshot> {
    return this.ask('POST', `/v1/storages/${encodeURIComponent(storage)}/snapshots`, { name });
  }

  async removeStorageSnapshot(at: SnapshotAt): Promise<void> {
    await this.ask('DELETE', snapshotPath(at));
  }

  /** Ranges of a disk in a snapshot of its storage that hold data. */
  snapshotRanges(at: SnapshotAt, disk: string): Promise<Range[]> {
    return this.ask('GET', `${snapshotPath(at)}/disks/${encodeURIComponent(disk)}/ranges`);
  }

  /** The bytes of ranges of a disk in a snapshot of its storage, one behind the other. */
  readSnapshot(at: SnapshotAt, disk: string, ranges: readonly Range[]): Promise<Buffer> {
    return this.bytes(`${snapshotPath(at)}/disks/${encodeURIComponent(disk)}/read`, { ranges }, ranges);
  }

  /** Ranges of a disk that were written: ever, or since a change id. Of a snapshot, or of now without one. Throws CHANGES_UNKNOWN. */
  ranges(id: string, disk: string, which: { snapshot?: string | undefined; since?: string | undefined }): Promise<Range[]> {
    const query = new URLSearchParams(Object.entries(which).filter((pair): pair is [string, string] => pair[1] !== undefined));
    return this.ask('GET', `${diskPath(id, disk)}/ranges?${query.toString()}`);
  }

  /** The bytes of ranges, one behind the other, in memory of their own. */
  async read(id: string, disk: string, ranges: readonly Range[], snapshot?: string): Promise<Buffer> {
    return this.bytes(`${diskPath(id, disk)}/read`, { snapshot, ranges }, ranges);
  }

  private async bytes(path: string, asked: object, ranges: readonly Range[]): Promise<Buffer> {
    const wanted = ranges.reduce((sum, [, length]) => sum + length, 0);
    const data = await this.call('POST', path, [Buffer.from(JSON.stringify(asked))], Math.max(wanted, refusalBytes));
    if (data.length !== wanted) throw new SourceError('PLATFORM_FAILED', 'it sent too little');
    return data;
  }

  /** Where a disk lies, for who sees its storage; undefined where the platform does not say. */
  async diskPlace(id: string, disk: string): Promise<{ readonly folder: string; readonly file: string } | undefined> {
    try {
      return DiskPlace.parse(await this.ask('GET', `${diskPath(id, disk)}/place`));
    } catch (error) {
      if (error instanceof z.ZodError || isSourceError(error, 'MACHINE_GONE')) return undefined;
      throw error;
    }
  }

  /** Tells what is about to be written on a disk where it lies, of a machine that does not run. */
  async announce(id: string, disk: string, ranges: readonly Range[]): Promise<void> {
    await this.ask('POST', `${diskPath(id, disk)}/announce`, { ranges });
  }

  /** Writes ranges of a machine that does not run; `data` holds their bytes one behind the other. */
  async write(id: string, disk: string, ranges: readonly Range[], data: readonly Uint8Array[]): Promise<void> {
    await this.call('POST', `${diskPath(id, disk)}/write`, [Buffer.from(`${JSON.stringify(ranges)}\n`), ...data]);
  }
}

const DiskPlace = z.object({ folder: z.string().regex(/^\//).max(4000), file: z.string().min(1).max(255) });
const Refusal = z.object({ code: z.string().max(60), message: z.string().optional() });

const snapshotPath = ({ storage, id }: SnapshotAt) => `/v1/storages/${encodeURIComponent(storage)}/snapshots/${encodeURIComponent(id)}`;
const diskPath = (id: string, disk: string) => `/v1/machines/${encodeURIComponent(id)}/disks/${encodeURIComponent(disk)}`;

function jsonOf<T>(status: number, body: Buffer): T {
  let answer: unknown;
  try {
    answer = JSON.parse(body.toString());
  } catch {
    throw new SourceError('PLATFORM_FAILED', 'what answers there is no platform');
  }
  if (status < 300) return answer as T;
  const { code, message } = Refusal.safeParse(answer).data ?? {};
  if (code === undefined) throw new SourceError('PLATFORM_FAILED', 'what answers there is no platform');
  throw sourceErrorOf(code, (message ?? '').slice(0, 500));
}
