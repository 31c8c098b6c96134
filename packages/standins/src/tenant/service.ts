import fs from 'node:fs';
import http, { type IncomingMessage, type ServerResponse } from 'node:http';
import { setTimeout as pause } from 'node:timers/promises';
import { listenLocally, stopListening } from '../local-server';
import { TenantChat } from './chat';
import { answerScim, type DirectoryContent } from './directory';
import { TenantFiles } from './files';
import { tenantFine, type TenantSwitches } from './switches';

export interface TenantServiceOptions {
  readonly folder: string;
  readonly port?: number;
  readonly domain: string;
  /** Opens everything: as a bearer token, or as the password of any account. */
  readonly secret: string;
  /** People and rooms are kept in files of the folder, which others may change. */
  readonly keeps?: boolean;
}

const mostBody = 1 << 20;

/** The services of an office tenant that Debian has no small server for: people and groups by SCIM, drives and sites by WebDAV with versions and quota, and chat. */
export class TenantService {
  readonly switches: TenantSwitches = { ...tenantFine };
  directory: DirectoryContent = { people: [], groups: [] };
  readonly drives: TenantFiles;
  readonly sites: TenantFiles;
  readonly chat: TenantChat;
  url = '';
  /** Questions so far, as `METHOD path`. */
  readonly asked: string[] = [];
  private readonly server = http.createServer((request, response) => void this.answer(request, response));

  constructor(private readonly options: TenantServiceOptions) {
    this.drives = new TenantFiles(`${options.folder}/drives`, '/drives/', this.switches);
    this.sites = new TenantFiles(`${options.folder}/sites`, '/sites/', this.switches);
    this.chat = new TenantChat(options.domain, options.keeps ? `${options.folder}/chat.json` : undefined);
  }

  async start(): Promise<void> {
    this.url = await listenLocally(this.server, this.options.port);
  }

  async stop(): Promise<void> {
    await stopListening(this.server);
  }

  private people(): DirectoryContent {
    const file = `${this.options.folder}/people.json`;
    return this.options.keeps && fs.existsSync(file) ? (JSON.parse(fs.readFileSync(file, 'utf8')) as DirectoryContent) : this.directory;
  }

  private isLetIn({ headers }: IncomingMessage): boolean {
    const said = headers.authorization ?? '';
    const [scheme, value] = [said.slice(0, said.indexOf(' ')), said.slice(said.indexOf(' ') + 1)];
    if (this.switches.refused) return false;
    if (scheme === 'Bearer') return value === this.options.secret;
    const text = Buffer.from(value, 'base64').toString();
    return scheme === 'Basic' && text.slice(text.indexOf(':') + 1) === this.options.secret;
  }

  private async answer(request: IncomingMessage, response: ServerResponse): Promise<void> {
    const { switches } = this;
    const path = request.url ?? '/';
    this.asked.push(`${request.method} ${path}`);
    if (this.asked.length > 10_000) this.asked.splice(0, 5000);
    if (switches.slowMs) await pause(switches.slowMs);
    const refuse = (status: number, headers: Record<string, string> = {}) => {
      request.resume();
      response.writeHead(status, headers).end();
    };
    if (switches.throttled > 0) {
      switches.throttled--;
      refuse(429, { 'retry-after': '1' });
      return;
    }
    if (switches.broken) {
      refuse(500);
      return;
    }
    if (!this.isLetIn(request)) {
      refuse(401);
      return;
    }
    try {
      if (path.startsWith('/drives/')) await this.drives.answer(request, response);
      else if (path.startsWith('/sites/')) await this.sites.answer(request, response);
      else if (path.startsWith('/scim/')) {
        request.resume();
        answerScim(this.people(), request, response);
      } else this.chat.answer(request, response, await bodyOf(request));
    } catch {
      if (!response.headersSent) response.writeHead(500);
      response.end();
    }
  }
}

async function bodyOf(request: IncomingMessage): Promise<string> {
  let text = '';
  for await (const part of request as AsyncIterable<Buffer>) {
    text += part.toString();
    if (text.length > mostBody) throw new RangeError('too long');
  }
  return text;
}
