import { XMLParser } from 'fast-xml-parser';
import type { Readable } from 'node:stream';
import { z } from 'zod';
import { SourceError } from '../source-error';
import { ServiceClient, type ServiceAccess, type ServiceRequest } from '../service-client';

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

/** Without the mark that it is of the meaning only: a server may take it away a second later. */
const etagOf = (value: unknown) => (typeof value === 'string' ? value : '').replace(/^W\//, '');

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
      etag: etagOf(prop.getetag),
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
  readonly text: string;
}

/** Asks one WebDAV, CalDAV or CardDAV server, always below one address. */
export class DavClient {
  private readonly client: ServiceClient;
  /** For files, which may be of any length. */
  private readonly files: ServiceClient;
  private readonly base: URL;

  constructor(
    url: string,
    private readonly access: ServiceAccess,
  ) {
    this.base = new URL(url.replace(/\/*$/, '/'));
    this.client = new ServiceClient(access, mostList);
    this.files = new ServiceClient(access, Number.MAX_SAFE_INTEGER);
  }

  /** Told when the server asks for patience, ms. */
  set onWait(told: (ms: number) => void) {
    this.client.onWait = told;
    this.files.onWait = told;
  }

  /** Path that everything lies below, with `/` at its end. */
  get root(): string {
    return this.base.pathname;
  }

  /** Where a path of the server is; refuses what leads elsewhere. */
  private at(href: string): URL {
    const url = new URL(href, this.base);
    if (url.origin !== this.base.origin || !url.pathname.startsWith(this.root))
      throw new SourceError('TENANT_FAILED', `${this.access.name}: an answer leads to another place`);
    return url;
  }

  /** Asks, and gives the whole answer; `fine`: what else than success is no failure. Throws SourceError. */
  async ask(
    method: string,
    href: string,
    { fine, ...more }: ServiceRequest & { readonly fine?: readonly number[] } = {},
  ): Promise<DavAnswer> {
    const { status, headers, text } = await this.client.text(method, this.at(href), more, fine);
    return { status, etag: etagOf(headers['etag']), text };
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
    const { files } = this;
    const { statusCode, headers, body } = await files.request('GET', this.at(href));
    if (statusCode >= 300) {
      await body.dump();
      throw files.refusal(statusCode);
    }
    const pieces = async function* () {
      try {
        for await (const piece of body as AsyncIterable<Buffer>) yield piece;
      } catch (error) {
        throw files.awayOf(error);
      }
    };
    return { etag: etagOf(headers['etag']), pieces: pieces() };
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
