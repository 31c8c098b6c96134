import { setTimeout as pause } from 'node:timers/promises';
import { AddressRefused, OutgoingClient, type OutgoingRequest } from '@lithodex/net';
import { XMLParser } from 'fast-xml-parser';
import type { Readable } from 'node:stream';
import { z } from 'zod';
import { SourceError } from '../source-error';
import { tooManyWaits, waitOf } from './retry-after';

const silenceMs = 60_000;
/** Longest list that is read, bytes. */
const mostList = 256 << 20;

/** Something a WebDAV server has, as it tells. */
export interface DavItem {
  /** Path as the server writes it, percent-encoded; folders end in `/`. */
  readonly href: string;
  readonly folder: boolean;
  readonly etag: string;
  readonly size: number;
  /** ms; 0 where it does not say. */
  readonly mtime: number;
  /** Answer for it alone: 404 for what is gone. */
  readonly status: number;
  readonly data: string;
  readonly title: string;
  readonly components: readonly string[];
  readonly types: readonly string[];
}

export interface DavListing {
  readonly items: readonly DavItem[];
  readonly token: string;
}

const parser = new XMLParser({
  removeNSPrefix: true,
  ignoreAttributes: false,
  attributeNamePrefix: '@',
  parseTagValue: false,
  parseAttributeValue: false,
  processEntities: true,
  htmlEntities: true,
  // blanks at the end of a line of a calendar belong to it
  trimValues: false,
  isArray: (name) => ['response', 'propstat', 'comp'].includes(name),
});

const Text = z
  .union([
    z.string(),
    z.number().transform(String),
    z.object({ '#text': z.union([z.string(), z.number()]).default('') }).transform((o) => String(o['#text'])),
  ])
  .catch('');
const Prop = z
  .object({
    resourcetype: z.unknown().transform((value) => (value && typeof value === 'object' ? Object.keys(value) : [])),
    getetag: Text.optional(),
    getcontentlength: Text.optional(),
    getlastmodified: Text.optional(),
    displayname: Text.optional(),
    'calendar-data': Text.optional(),
    'address-data': Text.optional(),
    'supported-calendar-component-set': z
      .object({ comp: z.array(z.object({ '@name': z.string() })).default([]) })
      .catch({ comp: [] })
      .optional(),
    'quota-available-bytes': Text.optional(),
  })
  .partial();
const Answer = z.object({
  multistatus: z.object({
    response: z
      .array(
        z.object({
          href: Text,
          status: Text.optional(),
          propstat: z.array(z.object({ status: Text.default('HTTP/1.1 200 OK'), prop: Prop.catch({}) })).default([]),
        }),
      )
      .default([]),
    'sync-token': Text.default(''),
  }),
});

const codeOf = (status: string | undefined) => Number(/\s(\d{3})/.exec(status ?? '')?.[1] ?? 200);

/** Takes a list as RFC 4918 has it. Throws SourceError for anything else. */
export function readMultistatus(text: string): DavListing & { readonly free: number | null } {
  let parsed;
  try {
    parsed = Answer.safeParse(parser.parse(text));
  } catch {
    throw new SourceError('TENANT_FAILED', 'its list can not be read');
  }
  const { data } = parsed;
  if (!data) throw new SourceError('TENANT_FAILED', 'its list can not be read');
  let free: number | null = null;
  const items = data.multistatus.response.map(({ href, status, propstat }): DavItem => {
    const prop = Object.assign({}, ...propstat.filter((p) => codeOf(p.status) < 300).map((p) => p.prop)) as z.infer<typeof Prop>;
    const types = prop.resourcetype ?? [];
    const available = Number(prop['quota-available-bytes'] ?? NaN);
    if (Number.isFinite(available) && available >= 0) free ??= available;
    return {
      href: href.trim(),
      folder: types.includes('collection'),
      etag: (prop.getetag ?? '').replace(/^W\//, ''),
      size: Number(prop.getcontentlength ?? 0) || 0,
      mtime: Date.parse(prop.getlastmodified ?? '') || 0,
      status: codeOf(status),
      data: prop['calendar-data'] ?? prop['address-data'] ?? '',
      title: prop.displayname ?? '',
      components: (prop['supported-calendar-component-set']?.comp ?? []).map((c) => c['@name']),
      types,
    };
  });
  return { items, token: data.multistatus['sync-token'], free };
}

export interface DavAnswer {
  readonly status: number;
  readonly etag: string;
  readonly type: string;
  readonly text: string;
}

type Body = NonNullable<OutgoingRequest['body']>;

/** Asks one WebDAV, CalDAV or CardDAV server, always below one address. Answers that ask for patience are asked again. */
export class DavClient {
  private readonly client = new OutgoingClient(mostList, silenceMs);
  /** For files, which may be of any length. */
  private readonly files = new OutgoingClient(Number.MAX_SAFE_INTEGER, silenceMs);
  private readonly base: URL;
  private readonly authorization: string;
  /** Told when the server asks for patience. */
  onWait: (ms: number) => void = () => undefined;

  constructor(
    /** What the service is called when it fails. */
    private readonly service: string,
    url: string,
    account: string,
    password: string,
    authority: string | null = null,
    private readonly stopped: () => boolean = () => false,
  ) {
    this.base = new URL(url.replace(/\/*$/, '/'));
    this.authorization = `Basic ${Buffer.from(`${account}:${password}`).toString('base64')}`;
    if (authority !== null) for (const client of [this.client, this.files]) client.trust(authority);
  }

  /** Path that everything lies below, with `/` at its end. */
  get root(): string {
    return this.base.pathname;
  }

  /** Where a path of the server is; refuses what leads elsewhere. */
  private at(href: string): URL {
    const url = new URL(href, this.base);
    if (url.origin !== this.base.origin || !url.pathname.startsWith(this.root))
      throw new SourceError('TENANT_FAILED', `${this.service}: an answer leads to another place`);
    return url;
  }

  private async request(
    client: OutgoingClient,
    method: string,
    href: string,
    more: { headers?: Record<string, string>; body?: () => Body },
  ) {
    for (let attempt = 1; ; attempt++) {
      let answer;
      try {
        answer = await client.request(this.at(href), {
          method,
          headers: { authorization: this.authorization, ...more.headers },
          ...(more.body && { body: more.body() }),
        });
      } catch (error) {
        throw this.awayOf(error);
      }
      const wait = waitOf(answer.statusCode, answer.headers, attempt);
      if (wait === undefined) return answer;
      await answer.body.dump();
      if (attempt > tooManyWaits) throw new SourceError('TENANT_AWAY', `${this.service}: it asks for patience again and again`);
      this.onWait(wait);
      for (let left = wait; left > 0 && !this.stopped(); left -= 200) await pause(Math.min(200, left));
    }
  }

  /** Asks, and gives the whole answer; `fine`: what else than success is no failure. */
  async ask(
    method: string,
    href: string,
    more: { readonly headers?: Record<string, string>; readonly body?: () => Body; readonly fine?: readonly number[] } = {},
  ): Promise<DavAnswer> {
    const answer = await this.request(this.client, method, href, more);
    let text;
    try {
      text = await answer.body.text();
    } catch (error) {
      throw this.awayOf(error);
    }
    const status = answer.statusCode;
    if (status >= 300 && !more.fine?.includes(status)) throw this.refusal(status);
    const one = (key: string) => String(answer.headers[key] ?? '');
    return { status, etag: one('etag').replace(/^W\//, ''), type: one('content-type'), text };
  }

  private refusal(status: number): SourceError {
    const said = (code: 'TENANT_REFUSED' | 'TENANT_GONE' | 'TENANT_FULL' | 'TENANT_FAILED' | 'TENANT_AWAY') =>
      new SourceError(code, `${this.service} answers ${status}`);
    if (status === 401 || status === 403) return said('TENANT_REFUSED');
    if (status === 404 || status === 410) return said('TENANT_GONE');
    if (status === 507 || status === 413) return said('TENANT_FULL');
    return said(status >= 500 ? 'TENANT_AWAY' : 'TENANT_FAILED');
  }

  private awayOf(error: unknown): Error {
    if (error instanceof SourceError) return error;
    const code = (error as { code?: unknown }).code;
    const why = error instanceof AddressRefused ? error.message.replace(/\.$/, '') : typeof code === 'string' ? code : 'it does not answer';
    return new SourceError('TENANT_AWAY', `${this.service}: ${why}`);
  }

  async propfind(href: string, depth: 0 | 1, props: string): Promise<ReturnType<typeof readMultistatus>> {
    return this.list('PROPFIND', href, depth, `<d:propfind ${spaces}><d:prop>${props}</d:prop></d:propfind>`);
  }

  async list(method: 'PROPFIND' | 'REPORT', href: string, depth: 0 | 1, body: string): Promise<ReturnType<typeof readMultistatus>> {
    const headers = { depth: String(depth), 'content-type': 'application/xml; charset=utf-8' };
    const { text } = await this.ask(method, href, { headers, body: () => `<?xml version="1.0" encoding="utf-8"?>${body}` });
    return readMultistatus(text);
  }

  /** A file as it comes, with its ETag. Throws SourceError. */
  async read(href: string): Promise<{ readonly etag: string; readonly pieces: AsyncIterable<Buffer> }> {
    const answer = await this.request(this.files, 'GET', href, {});
    if (answer.statusCode >= 300) {
      await answer.body.dump();
      throw this.refusal(answer.statusCode);
    }
    const { body } = answer;
    const awayOf = this.awayOf.bind(this);
    const pieces = async function* () {
      try {
        for await (const piece of body as AsyncIterable<Buffer>) yield piece;
      } catch (error) {
        throw awayOf(error);
      }
    };
    return { etag: String(answer.headers['etag'] ?? '').replace(/^W\//, ''), pieces: pieces() };
  }

  /** Writes a file of known length. Gives the answer, also one of `fine`. */
  async write(
    href: string,
    content: () => Readable,
    size: number,
    more: { readonly headers?: Record<string, string>; readonly fine?: readonly number[] } = {},
  ): Promise<DavAnswer> {
    return this.ask('PUT', href, { ...more, headers: { 'content-length': String(size), ...more.headers }, body: content });
  }

  async close(): Promise<void> {
    await Promise.all([this.client.close(), this.files.close()]);
  }
}

/** Names that stand in the questions. */
export const spaces = 'xmlns:d="DAV:" xmlns:c="urn:ietf:params:xml:ns:caldav" xmlns:a="urn:ietf:params:xml:ns:carddav"';

export const xmlText = (text: string): string => text.replace(/[<>&"']/g, (c) => `&#${c.charCodeAt(0)};`);

/** Of somebody who never had one there is none. Throws everything else. */
export const noneYet = (error: unknown): [] => {
  if (error instanceof SourceError && error.code === 'TENANT_GONE') return [];
  throw error;
};
