import { createCipheriv, createDecipheriv, hkdfSync, randomBytes } from 'node:crypto';

const nonceBytes = 12;
const tagBytes = 16;

/** Keeps secrets of other systems encrypted in the database (AES-256-GCM), under a key made from the one of the installation. */
export class Secrets {
  private readonly key: Buffer;
  /** What the installation is known by on the targets it owns: 32 hex digits. */
  readonly installation: string;

  /** `installationSecret`: 32 bytes as hex. */
  constructor(installationSecret: string) {
    this.key = Buffer.from(hkdfSync('sha256', Buffer.from(installationSecret, 'hex'), '', 'lithodex secrets at rest 1', 32));
    this.installation = Buffer.from(hkdfSync('sha256', Buffer.from(installationSecret, 'hex'), '', 'lithodex installation 1', 16)).toString(
      'hex',
    );
  }

  /** `purpose` ties the secret to its row, so that it opens nowhere else. */
  seal(purpose: string, text: string): Buffer {
    const nonce = randomBytes(nonceBytes);
    const cipher = createCipheriv('aes-256-gcm', this.key, nonce).setAAD(Buffer.from(purpose));
    return Buffer.concat([nonce, cipher.update(text, 'utf8'), cipher.final(), cipher.getAuthTag()]);
  }

  /** Throws when it was sealed for another purpose or with another key. */
  open(purpose: string, sealed: Buffer): string {
    const decipher = createDecipheriv('aes-256-gcm', this.key, sealed.subarray(0, nonceBytes)).setAAD(Buffer.from(purpose));
    decipher.setAuthTag(sealed.subarray(sealed.length - tagBytes));
    return decipher.update(sealed.subarray(nonceBytes, sealed.length - tagBytes), undefined, 'utf8') + decipher.final('utf8');
  }
}
