import { EngineError } from '@lithodex/engine';
import { addressOf, AddressRefused } from '@lithodex/net';
import type { Tenant, TenantMember } from '@lithodex/kinds';
import { ImapFlow } from 'imapflow';
import { SourceError } from '../source-error';

const silenceMs = 60_000;
/** Longest message that is read. */
const mostBytes = 1 << 30;

/** Signs in to the mailbox of a member by the account that may do so for everybody. Throws SourceError. */
export async function openMailbox(tenant: Tenant, member: Pick<TenantMember, 'login'>): Promise<ImapFlow> {
  const { mail, secrets, authority } = tenant;
  if (!mail) throw new SourceError('TENANT_FAILED', 'mail is not connected');
  const client = new ImapFlow({
    host: await addressOf(mail.host).catch((error: unknown) => {
      throw mailError(error);
    }),
    servername: mail.host,
    port: mail.port,
    secure: mail.encryption === 'tls',
    doSTARTTLS: mail.encryption === 'starttls',
    auth: { user: `${member.login}${mail.separator}${mail.account}`, pass: secrets.mail ?? '' },
    tls: { minVersion: 'TLSv1.2', ...(authority && { ca: authority }) },
    logger: false,
    qresync: true,
    socketTimeout: silenceMs,
    greetingTimeout: silenceMs,
    connectionTimeout: silenceMs,
    maxLiteralSize: mostBytes,
    disableAutoIdle: true,
  });
  // what a command fails with is thrown by the command; without a listener the process would end
  client.on('error', () => undefined);
  try {
    await client.connect();
  } catch (error) {
    client.close();
    throw mailError(error);
  }
  return client;
}

/** Ends a connection, also one that is broken. */
export async function closeMailbox(client: ImapFlow): Promise<void> {
  const giveUp = setTimeout(() => client.close(), 3000);
  await client.logout().catch(() => undefined);
  clearTimeout(giveUp);
  client.close();
}

interface ImapFailure {
  readonly code?: string;
  readonly authenticationFailed?: boolean;
  readonly serverResponseCode?: string;
  readonly responseText?: string;
  readonly message?: string;
}

/** What a mail server says, within bounds: it is a stranger's text. */
const textOf = ({ responseText, message }: ImapFailure) =>
  (responseText ?? message ?? '')

    .replace(/[\0-\x1f\x7f]/g, ' ')
    .slice(0, 200)
    .replace(/\.$/, '');

/** What a failure of a mail server means here; what our own side failed with stays as it is. */
export function mailError(error: unknown): SourceError | EngineError {
  if (error instanceof SourceError || error instanceof EngineError) return error;
  if (error instanceof AddressRefused) return new SourceError('TENANT_AWAY', error.message.replace(/\.$/, ''));
  const failure = error as ImapFailure;
  const code = failure.serverResponseCode ?? '';
  if (code === 'AUTHORIZATIONFAILED') return new SourceError('TENANT_GONE', `mail: ${textOf(failure)}`);
  if (failure.authenticationFailed || /^(AUTHENTICATIONFAILED|CONTACTADMIN|EXPIRED|PRIVACYREQUIRED)$/.test(code))
    return new SourceError('TENANT_REFUSED', `mail: ${textOf(failure)}`);
  if (code === 'OVERQUOTA') return new SourceError('TENANT_FULL', `mail: ${textOf(failure)}`);
  if (failure.code && /^(E[A-Z]+|NoConnection|ClosedAfterConnect|.*TIMEOUT|CONNECT.*|UPGRADE.*|GREETING.*)$/i.test(failure.code))
    return new SourceError('TENANT_AWAY', `mail: ${textOf(failure)}`);
  return new SourceError('TENANT_FAILED', `mail: ${textOf(failure)}`);
}

/** Whether another attempt on a new connection may go better. */
export const isAway = (error: unknown): boolean => error instanceof SourceError && error.code === 'TENANT_AWAY';
