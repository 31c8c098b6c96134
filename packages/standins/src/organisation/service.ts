import { generateKeyPairSync } from 'node:crypto';
import { createServer, type IncomingMessage, type Server, type ServerResponse } from 'node:http';
import { Provider } from 'oidc-provider';
import { escapeHtml } from '../escape-html';
import { listenLocally, stopListening } from '../local-server';

export interface Member {
  readonly name: string;
  readonly display: string;
  readonly password: string;
  readonly groups: readonly string[];
  /** Address of the mailbox. */
  readonly mail?: string;
}

export interface OrganisationOptions {
  readonly port?: number;
  readonly clientId: string;
  readonly clientSecret: string;
  /** Addresses the client may come back to. */
  readonly redirects: readonly string[];
  readonly members: readonly Member[];
}

const largestForm = 10_000;

async function formOf(req: IncomingMessage): Promise<URLSearchParams> {
  let text = '';
  for await (const part of req as AsyncIterable<Buffer>) {
    text += part.toString();
    if (text.length > largestForm) throw new Error('the form is too large');
  }
  return new URLSearchParams(text);
}

/** An organisation that lets its people sign in by OpenID Connect, for tests and demonstrations. */
export class OrganisationService {
  private readonly web: Server;
  private provider: Provider | undefined;
  /** As its members are now: they may come, go and change groups. */
  members: readonly Member[];
  address = '';

  constructor(private readonly options: OrganisationOptions) {
    this.members = options.members;
    this.web = createServer((req, res) => {
      this.answer(req, res).catch(() => {
        if (!res.headersSent) res.writeHead(500);
        res.end();
      });
    });
  }

  /** Its address, which is the issuer's too. */
  async start(): Promise<string> {
    this.address = await listenLocally(this.web, this.options.port);
    const { clientId, clientSecret, redirects } = this.options;
    this.provider = new Provider(this.address, {
      clients: [
        {
          client_id: clientId,
          client_secret: clientSecret,
          redirect_uris: [...redirects],
          token_endpoint_auth_method: 'client_secret_post',
        },
      ],
      claims: { openid: ['sub'], profile: ['name', 'preferred_username'], groups: ['groups'], email: ['email', 'email_verified'] },
      scopes: ['openid', 'profile', 'groups', 'email'],
      conformIdTokenClaims: false,
      jwks: {
        keys: [
          { ...generateKeyPairSync('rsa', { modulusLength: 2048 }).privateKey.export({ format: 'jwk' }), use: 'sig', alg: 'RS256' },
        ] as never,
      },
      ttl: { Interaction: 600, Grant: 600, Session: 600, AccessToken: 600, IdToken: 600, AuthorizationCode: 60 },
      cookies: { keys: [clientSecret] },
      features: { devInteractions: { enabled: false } },
      interactions: { url: (_ctx, interaction) => `/interaction/${interaction.uid}` },
      findAccount: (_ctx, sub) => {
        const member = this.members.find((m) => m.name === sub);
        return (
          member && {
            accountId: sub,
            claims: () => ({
              sub,
              name: member.display,
              preferred_username: member.name,
              groups: [...member.groups],
              ...(member.mail !== undefined && { email: member.mail, email_verified: true }),
            }),
          }
        );
      },
      // whoever signs in has agreed to what the one client asks for
      loadExistingGrant: async (ctx) => {
        const { provider, client, session } = ctx.oidc;
        const grant = new provider.Grant({ clientId: client!.clientId, accountId: session!.accountId! });
        grant.addOIDCScope('openid profile groups email');
        await grant.save();
        return grant;
      },
    });
    return this.address;
  }

  async stop(): Promise<void> {
    await stopListening(this.web);
  }

  private async answer(req: IncomingMessage, res: ServerResponse): Promise<void> {
    const provider = this.provider!;
    if (!req.url?.startsWith('/interaction/')) {
      await provider.callback()(req, res);
      return;
    }
    if (req.method === 'POST') {
      const form = await formOf(req);
      const member = this.members.find((m) => m.name === form.get('name') && m.password === form.get('password'));
      if (member) {
        await provider.interactionFinished(req, res, { login: { accountId: member.name } });
        return;
      }
    }
    await provider.interactionDetails(req, res);
    const wrong = req.method === 'POST' ? '<p>Name or password is wrong.</p>' : '';
    res
      .writeHead(200, { 'content-type': 'text/html; charset=utf-8' })
      .end(
        `<!doctype html><title>Organisation stand-in</title><style>body{font:14px system-ui;margin:4em auto;max-width:20em}label,button{display:block;margin:1em 0}</style><h1>Organisation stand-in</h1>${wrong}<form method="post" action="${escapeHtml(req.url)}"><label>Name <input name="name"></label><label>Password <input name="password" type="password"></label><button>Sign in</button></form>`,
      );
  }
}
