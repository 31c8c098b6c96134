import { mkdirSync, readdirSync, readFileSync, writeFileSync } from 'node:fs';
import path from 'node:path';
import PostalMime from 'postal-mime';

/** A mail that arrived. */
export interface Mail {
  readonly id: number;
  readonly at: number;
  /** Addresses of the envelope: who really gets it. */
  readonly to: readonly string[];
  readonly from: string;
  readonly subject: string;
  readonly text: string;
  readonly messageId: string;
  readonly attachments: readonly { readonly name: string; readonly text: string }[];
}

/** Mails as files in a folder, as they came. */
export class MailBox {
  private readonly mails: Mail[] = [];

  constructor(private readonly folder: string) {
    mkdirSync(folder, { recursive: true });
    for (const name of readdirSync(folder).sort()) this.mails.push(JSON.parse(readFileSync(path.join(folder, name), 'utf8')) as Mail);
  }

  /** The newest first. */
  list(): readonly Mail[] {
    return [...this.mails].reverse();
  }

  async take(raw: Buffer, from: string, to: readonly string[], at: number): Promise<void> {
    const { subject = '', text = '', messageId = '', attachments } = await PostalMime.parse(raw, { attachmentEncoding: 'utf8' });
    const id = this.mails.length + 1;
    const mail: Mail = {
      id,
      at,
      to,
      from,
      subject,
      text,
      messageId,
      attachments: attachments.map((a) => ({ name: a.filename ?? '', text: typeof a.content === 'string' ? a.content : '' })),
    };
    writeFileSync(path.join(this.folder, `${String(id).padStart(8, '0')}.json`), JSON.stringify(mail));
    this.mails.push(mail);
  }
}
