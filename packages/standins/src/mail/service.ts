import { createServer, type IncomingMessage, type Server, type ServerResponse } from 'node:http';
import type { AddressInfo } from 'node:net';
import { SMTPServer, type SMTPServerDataStream, type SMTPServerSession } from 'smtp-server';
import { listenLocally, stopListening } from '../local-server';
import { MailBox } from './mail-box';
import { mailListPage, mailPage } from './page';

export interface MailServiceOptions {
  readonly folder: string;
  /** Of its page; any free one when not said. */
  readonly port?: number;
  readonly smtpPort?: number;
  /** Who may send; everybody when not said. */
  readonly account?: { readonly name: string; readonly password: string };
}

/** Faults on switches. */
export interface MailSwitches {
  /** Every mail is turned away, as when a box is full. */
  refuses: boolean;
}

const largestMail = 8 << 20;

/** A mail server that keeps whatever comes, for tests and demonstrations. */
export class MailService {
  readonly box: MailBox;
  readonly switches: MailSwitches = { refuses: false };
  private readonly smtp: SMTPServer;
  private readonly web: Server;
  smtpPort = 0;

  constructor(private readonly options: MailServiceOptions) {
    this.box = new MailBox(options.folder);
    const { account } = options;
    this.smtp = new SMTPServer({
      disabledCommands: account ? ['STARTTLS'] : ['STARTTLS', 'AUTH'],
      authOptional: !account,
      allowInsecureAuth: true,
      size: largestMail,
      logger: false,
      onAuth: (auth, _session, done) => {
        const right = auth.username === account?.name && auth.password === account?.password;
        done(right ? null : new Error('name or password is wrong'), right ? { user: auth.username } : undefined);
      },
      onData: (stream, session, done) => {
        this.take(stream, session).then(
          () => {
            done();
          },
          (error: unknown) => {
            done(error as Error);
          },
        );
      },
    });
    // a connection that breaks is the other side's trouble
    this.smtp.on('error', () => undefined);
    this.web = createServer((req, res) => {
      this.show(req, res);
    });
  }

  /** Address of its page. */
  async start(): Promise<string> {
    await new Promise<void>((resolve, reject) => {
      this.smtp.server.once('error', reject);
      this.smtp.listen(this.options.smtpPort ?? 0, '127.0.0.1', resolve);
    });
    this.smtpPort = (this.smtp.server.address() as AddressInfo).port;
    return listenLocally(this.web, this.options.port);
  }

  async stop(): Promise<void> {
    await new Promise<void>((resolve) => {
      this.smtp.close(resolve);
    });
    await stopListening(this.web);
  }

  private async take(stream: SMTPServerDataStream, { envelope }: SMTPServerSession): Promise<void> {
    const parts: Buffer[] = [];
    for await (const part of stream as AsyncIterable<Buffer>) parts.push(part);
    if (stream.sizeExceeded) throw new Error('the mail is too large');
    if (this.switches.refuses) throw new Error('the box is full');
    const from = envelope.mailFrom ? envelope.mailFrom.address : '';
    await this.box.take(
      Buffer.concat(parts),
      from,
      envelope.rcptTo.map((r) => r.address),
      Date.now(),
    );
  }

  private show(req: IncomingMessage, res: ServerResponse): void {
    const id = /^\/mails\/(\d+)$/.exec(req.url ?? '')?.[1];
    const mail = this.box.list().find((m) => m.id === Number(id));
    const text = mail ? mailPage(mail) : mailListPage(this.box.list());
    res.writeHead(id && !mail ? 404 : 200, { 'content-type': 'text/html; charset=utf-8' }).end(text);
  }
}
