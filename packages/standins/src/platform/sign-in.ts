import { createHash, randomBytes, timingSafeEqual, verify, X509Certificate } from 'node:crypto';
import type { AccountDescription, PlatformRight } from './description';
import { PlatformError } from './platform-error';

interface Session {
  readonly account: string;
  ends: number;
}

const sessionMs = 15 * 60_000;

const digest = (text: string) => createHash('sha256').update(text).digest();

/** Who may come in: by password until it ends, or by a certificate that is known, proven by signing what was asked. */
export class SignIn {
  private accounts = new Map<string, AccountDescription>();
  private readonly sessions = new Map<string, Session>();
  private readonly challenges = new Set<string>();

  setAccounts(accounts: readonly AccountDescription[]): void {
    this.accounts = new Map(accounts.map((a) => [a.name, a]));
  }

  /** Changes an account, which ends its sessions. */
  setAccount(account: AccountDescription): void {
    this.accounts.set(account.name, account);
    for (const [token, session] of this.sessions) if (session.account === account.name) this.sessions.delete(token);
  }

  account(name: string): AccountDescription | undefined {
    return this.accounts.get(name);
  }

  byPassword(name: string, password: string): { token: string } {
    const account = this.accounts.get(name);
    if (!account || !timingSafeEqual(digest(account.password), digest(password)))
      throw new PlatformError('SIGN_IN_REFUSED', 'name or password is not right');
    if (account.passwordEnds !== null && account.passwordEnds <= Date.now())
      throw new PlatformError('PASSWORD_EXPIRED', 'the password has expired');
    return this.open(account);
  }

  challenge(): { challenge: string } {
    const challenge = randomBytes(32).toString('hex');
    this.challenges.add(challenge);
    return { challenge };
  }

  /** `signature`: of the challenge, by the key of the certificate, base64. */
  byCertificate(pem: string, challenge: string, signature: string): { token: string } {
    const refused = new PlatformError('SIGN_IN_REFUSED', 'the certificate is not known, or did not sign what was asked');
    if (!this.challenges.delete(challenge)) throw refused;
    let certificate: X509Certificate;
    try {
      certificate = new X509Certificate(pem);
    } catch {
      throw refused;
    }
    const account = [...this.accounts.values()].find((a) => a.certificate === certificate.fingerprint256);
    const signed = verify('sha256', Buffer.from(challenge), certificate.publicKey, Buffer.from(signature, 'base64'));
    if (!account || !signed) throw refused;
    if (Date.parse(certificate.validTo) <= Date.now()) throw new PlatformError('PASSWORD_EXPIRED', 'the certificate has expired');
    return this.open(account);
  }

  private open(account: AccountDescription): { token: string } {
    const token = randomBytes(24).toString('hex');
    this.sessions.set(token, { account: account.name, ends: Date.now() + sessionMs });
    return { token };
  }

  /** The account of a session, which lasts on from its last use. Throws SESSION_ENDED. */
  of(token: string): AccountDescription {
    const session = this.sessions.get(token);
    const account = session && this.accounts.get(session.account);
    if (!account || session.ends < Date.now()) throw new PlatformError('SESSION_ENDED', 'sign in again');
    session.ends = Date.now() + sessionMs;
    return account;
  }
}

/** Throws RIGHT_MISSING. */
export function mustHave(account: AccountDescription, right: PlatformRight): void {
  if (!account.rights.includes(right)) throw new PlatformError('RIGHT_MISSING', `the account has no right to ${right}`);
}
