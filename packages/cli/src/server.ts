import type { Readable } from 'node:stream';
import { ErrorBody, routes, type Answered, type BodyInput, type QueryInput, type Route, type RouteName } from '@lithodex/contract';
import { bytesOf } from '@lithodex/net';
import { Agent, request, type Dispatcher } from 'undici';
import { z } from 'zod';
import { CliError } from './errors';
import type { Profile } from './profiles';

export interface CallOptions<N extends RouteName> {
  readonly id?: number | string;
  readonly query?: QueryInput<N>;
  readonly body?: BodyInput<N>;
}
interface AnyOptions {
  readonly id?: number | string;
  readonly query?: unknown;
  readonly body?: unknown;
}

/** No answer of the API is larger, bytes. */
const mostBytes = 256 << 20;
const patienceMs = 120_000;

/** What is sent with a call: a token, or the cookie of a session. */
export type Opener = Readonly<Record<string, string>>;

/** One server, called route by route. What it is opened with goes to its address only: it is never sent on to another. */
export class Server {
  private readonly agent: Agent;
  constructor(
    readonly address: string,
    private opener: Opener,
    authority?: string,
  ) {
    this.agent = new Agent({
      connect: { timeout: 15_000, ...(authority && { ca: authority }) },
      headersTimeout: patienceMs,
    });
  }

  static of({ address, token, authority }: Profile): Server {
    return new Server(address, { authorization: `Bearer ${token}` }, authority);
  }

  /** Goes on with another session or token. */
  open(opener: Opener): void {
    this.opener = opener;
  }

  private async send(name: RouteName, { id, query, body }: AnyOptions): Promise<Dispatcher.ResponseData> {
    const route: Route = routes[name];
    const url = new URL(`${this.address.replace(/\/+$/, '')}/api/v1${route.path.replace(':id', encodeURIComponent(String(id ?? '')))}`);
    for (const [key, value] of Object.entries(query ?? {}) as [string, unknown][])
      if (value !== undefined) url.searchParams.set(key, typeof value === 'string' ? value : JSON.stringify(value));
    const method = route.method.toUpperCase();
    try {
      return await request(url, {
        method,
        dispatcher: this.agent,
        headers: { ...this.opener, ...(body !== undefined && { 'content-type': 'application/json' }) },
        ...(body !== undefined && { body: JSON.stringify(body) }),
      });
    } catch (error) {
      throw new CliError('UNREACHABLE', `${url.origin} does not answer: ${reasonOf(error)}`);
    }
  }

  /** Calls a route; its answer is what the contract says. Throws REFUSED with the words of the server, UNREACHABLE, NOT_UNDERSTOOD. */
  async call<N extends RouteName>(name: N, options: CallOptions<N> = {}): Promise<Answered<N>> {
    return (await this.callWithHeaders(name, options)).answer;
  }

  async callWithHeaders<N extends RouteName>(
    name: N,
    options: CallOptions<N> = {},
  ): Promise<{ answer: Answered<N>; headers: Readonly<Record<string, string | string[] | undefined>> }> {
    const { statusCode, headers, body } = await this.send(name, options);
    const answer = await jsonOf(body);
    if (statusCode !== 200) throw refusalOf(statusCode, answer);
    const schema: z.ZodType | undefined = (routes[name] as Route).response;
    const read = schema?.safeParse(answer);
    if (read && !read.success)
      throw new CliError(
        'NOT_UNDERSTOOD',
        `The server answered ${name} in a way this version does not know: ${z.prettifyError(read.error).slice(0, 500)}`,
      );
    return { answer: (read ? read.data : answer) as Answered<N>, headers };
  }

  /** Calls a route whose answer is no JSON. Throws REFUSED, UNREACHABLE. */
  async stream(name: RouteName, options: AnyOptions = {}): Promise<{ readonly body: Readable; readonly type: string }> {
    const { statusCode, headers, body } = await this.send(name, options);
    if (statusCode !== 200) throw refusalOf(statusCode, await jsonOf(body));
    return { body, type: String(headers['content-type'] ?? '') };
  }

  async close(): Promise<void> {
    await this.agent.close();
  }
}

async function jsonOf(body: Dispatcher.ResponseData['body']): Promise<unknown> {
  try {
    return JSON.parse((await bytesOf(body, mostBytes)).toString()) as unknown;
  } catch (error) {
    if (error instanceof SyntaxError) throw new CliError('NOT_UNDERSTOOD', 'What answers at this address is no server of Lithodex.');
    throw new CliError('UNREACHABLE', `The answer broke off: ${reasonOf(error)}`);
  }
}

function refusalOf(status: number, answer: unknown): CliError {
  const read = ErrorBody.safeParse(answer);
  if (!read.success) return new CliError('NOT_UNDERSTOOD', `What answers at this address says ${status} and is no server of Lithodex.`);
  return new CliError('REFUSED', read.data.message, read.data.code);
}

function reasonOf(error: unknown): string {
  const { cause, code, message } = error as Error & { code?: string };
  const inner = (cause as Error | undefined)?.message ?? message;
  if (code === 'DEPTH_ZERO_SELF_SIGNED_CERT' || /certificate|self.signed/i.test(inner))
    return `${inner}. Name the authority of its certificate with --authority FILE when the profile is added.`;
  return inner;
}
