import http, { type IncomingMessage, type RequestOptions } from 'node:http';
import https from 'node:https';
import { pipeline } from 'node:stream/promises';
import type { Readable } from 'node:stream';
import { bytesOf } from '@lithodex/net';
import { routes, type Answered, type BodyInput, type RouteName } from '@lithodex/contract';

interface Asked extends Pick<RequestOptions, 'signal'> {
  readonly headers: Record<string, string | number>;
}

/** More than any answer of a server takes. */
const mostBytes = 256 << 20;

/** An error the server answered with, by its code. */
export class ServerError extends Error {
  constructor(
    readonly code: string,
    message: string,
  ) {
    super(message);
  }
}

/** The mover's side of the server's API. */
export class ServerApi {
  constructor(
    private readonly server: string,
    private readonly token: string,
  ) {}

  /** A request of Node's own client: a thread that had to load another would take longer to start than many a task. */
  private request(name: RouteName, id: string | undefined, { headers, ...options }: Asked): http.ClientRequest {
    const url = new URL(`${this.server}/api/v1${routes[name].path.replace(':id', encodeURIComponent(id ?? ''))}`);
    return (url.protocol === 'https:' ? https : http).request(url, {
      method: routes[name].method.toUpperCase(),
      headers: { ...headers, authorization: `Bearer ${this.token}` },
      ...options,
    });
  }

  /** Calls a route once. Throws ServerError, or what the network throws. */
  async call<N extends RouteName>(name: N, body: BodyInput<N>, id?: string, signal?: AbortSignal): Promise<Answered<N>> {
    const text = JSON.stringify(body);
    const response = await new Promise<IncomingMessage>((resolve, reject) => {
      const sending = this.request(name, id, {
        headers: { 'content-type': 'application/json', 'content-length': Buffer.byteLength(text) },
        signal: signal ?? AbortSignal.timeout(60_000),
      });
      sending.once('response', resolve).on('error', reject).end(text);
    });
    const answer = JSON.parse((await bytesOf(response, mostBytes)).toString()) as { code?: string; message?: string };
    if (response.statusCode !== 200) throw new ServerError(answer.code ?? String(response.statusCode), answer.message ?? '');
    return answer as Answered<N>;
  }

  /** Calls a route until it is answered, waiting while the server or its database is away. Throws when `stopped` or when the server refuses. */
  async insist<N extends RouteName>(name: N, body: BodyInput<N>, id: string, stopped: () => boolean): Promise<Answered<N>> {
    for (let wait = 100; ; wait = Math.min(5000, wait * 2)) {
      try {
        return await this.call(name, body, id);
      } catch (error) {
        const passing = !(error instanceof ServerError) || error.code === 'DATABASE_AWAY';
        if (!passing || stopped()) throw error;
        await new Promise((resume) => setTimeout(resume, wait));
      }
    }
  }

  /** Streams bytes to a route. Throws ServerError as soon as the server refuses, even while there is more to send. */
  async stream(name: RouteName, id: string, body: Readable): Promise<void> {
    const sending = this.request(name, id, { headers: { 'content-type': 'application/octet-stream' } });
    const answered = new Promise<void>((resolve, reject) => {
      sending.on('response', (response) => {
        response.resume();
        if (response.statusCode === 200) {
          resolve();
          return;
        }
        const refused = new ServerError(String(response.statusCode), 'The download was not taken: the person who waited for it went away.');
        reject(refused);
        sending.destroy(refused);
      });
      sending.on('error', reject);
    });
    answered.catch(() => undefined);
    await pipeline(body, sending);
    await answered;
  }
}
