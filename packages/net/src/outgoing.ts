import dns from 'node:dns';
import net from 'node:net';
import type { LookupFunction } from 'node:net';
import type { Readable } from 'node:stream';
import type { Agent, Dispatcher, request, RequestInit } from 'undici';
import { whyRefused } from './addresses';

/** Name of the setting in the surroundings of a process, so that its threads have it too: 'no' refuses private addresses. */
export const privateAddressesSetting = 'LITHODEX_PRIVATE_ADDRESSES';
const allowPrivate = () => process.env[privateAddressesSetting] !== 'no';

/** An address nothing is sent to. */
export class AddressRefused extends Error {
  readonly code = 'ADDRESS_REFUSED';
  constructor(host: string, why: string) {
    super(`${host} is not reached: ${why}.`);
  }
}

/** Resolves a name as the system does, refusing every address nothing may be sent to: what is connected to is what was looked at. */
export const guardedLookup: LookupFunction = (hostname, options, callback) => {
  dns.lookup(hostname, { ...options, all: true }, (error, found) => {
    if (error) {
      callback(error, '', 0);
      return;
    }
    const refused = found.map(({ address }) => whyRefused(address, allowPrivate())).find((why) => why !== undefined);
    if (refused !== undefined) callback(new AddressRefused(hostname, refused), '', 0);
    else if (options.all) callback(null, found);
    else callback(null, found[0]!.address, found[0]!.family);
  });
};

/** Refuses a host that is an address itself, which nobody looks up. Throws AddressRefused. */
export function checkHost(host: string): void {
  const bare = host.replace(/^\[|\]$/g, '');
  const why = net.isIP(bare) ? whyRefused(bare, allowPrivate()) : undefined;
  if (why !== undefined) throw new AddressRefused(host, why);
}

/** The address of a host to connect to, looked at. Throws AddressRefused, and what the system says of a name it does not know. */
export function addressOf(host: string): Promise<string> {
  return new Promise((resolve, reject) => {
    try {
      checkHost(host);
    } catch (error) {
      reject(error instanceof Error ? error : new Error(String(error)));
      return;
    }
    guardedLookup(host, { all: false }, (error, address) => {
      if (error) reject(error);
      else resolve(address as unknown as string);
    });
  });
}

export interface OutgoingRequest {
  readonly method: Dispatcher.HttpMethod;
  readonly headers?: Record<string, string>;
  readonly body?: Uint8Array | string | Readable | null;
  readonly signal?: AbortSignal;
}

/** The client for requests to the outside: no address that is refused, and no answer longer than `mostBytes`. Rejects with AddressRefused, and with what the network says. */
export class OutgoingClient {
  private agent: Agent | undefined;
  private authority: string | undefined;

  constructor(
    private readonly mostBytes: number,
    private readonly silenceMs: number,
  ) {}

  /** Certificates are checked with this authority (PEM) instead of those that the system trusts. */
  trust(authority: string): void {
    this.authority = authority;
  }

  /** Ends the connections that are kept for what may be asked next. */
  async close(): Promise<void> {
    await this.agent?.close();
  }

  /** Loaded when something is asked: most threads never ask anything of the outside. */
  private async client(): Promise<{ undici: typeof import('undici'); dispatcher: Agent }> {
    const undici = await import('undici');
    this.agent ??= new undici.Agent({
      connect: { lookup: guardedLookup, timeout: this.silenceMs, ...(this.authority !== undefined && { ca: this.authority }) },
      headersTimeout: this.silenceMs,
      bodyTimeout: this.silenceMs,
      maxResponseSize: this.mostBytes,
    });
    return { undici, dispatcher: this.agent };
  }

  async request(url: URL, options: OutgoingRequest): ReturnType<typeof request> {
    checkHost(url.hostname);
    const { undici, dispatcher } = await this.client();
    return undici.request(url, { ...options, dispatcher });
  }

  /** For libraries that bring no client of their own: what was looked at is what is connected to, wherever the answers lead. */
  readonly fetch = async (url: string, options: object): Promise<Response> => {
    checkHost(new URL(url).hostname);
    const { undici, dispatcher } = await this.client();
    const answer: unknown = await undici.fetch(url, { ...(options as RequestInit), dispatcher });
    return answer as Response;
  };
}
