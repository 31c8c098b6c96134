import type { TenantAddress, TenantSecrets, TenantService } from '@lithodex/kinds';

/** What is said of one service, as it stands in its fields. */
export interface ServiceFields {
  on: boolean;
  url: string;
  account: string;
  secret: string;
}

/** The form of an office tenant. */
export interface TenantFields {
  people: ServiceFields & { by: TenantAddress['people']['by']; base: string; logins: string };
  mail: ServiceFields & { host: string; port: number; encryption: 'none' | 'starttls' | 'tls'; separator: string };
  groupware: ServiceFields;
  drives: ServiceFields;
  sites: ServiceFields;
  chat: ServiceFields & { domain: string };
}

const empty = (): ServiceFields => ({ on: false, url: '', account: '', secret: '' });

export const emptyFields = (): TenantFields => ({
  people: { ...empty(), on: true, by: 'scim', base: '', logins: '' },
  mail: { ...empty(), on: true, host: '', port: 993, encryption: 'tls', separator: '*' },
  groupware: empty(),
  drives: empty(),
  sites: empty(),
  chat: { ...empty(), domain: '' },
});

/** The fields of a tenant that is connected; what opens it stays where it is. */
export function fieldsOf(address: TenantAddress): TenantFields {
  const { people, mail, groupware, drives, sites, chat } = address;
  const fields = emptyFields();
  const plain = (of: { url: string; account: string } | null): ServiceFields =>
    of ? { on: true, url: of.url, account: of.account, secret: '' } : empty();
  return {
    people: {
      ...fields.people,
      by: people.by,
      ...(people.by === 'scim' && { url: people.url, account: people.account ?? '' }),
      ...(people.by === 'ldap' && { url: people.url, base: people.base, account: people.account }),
      ...(people.by === 'list' && { logins: people.logins.join('\n') }),
    },
    mail: mail ? { ...fields.mail, ...mail, on: true } : { ...fields.mail, on: false },
    groupware: plain(groupware),
    drives: plain(drives),
    sites: plain(sites),
    chat: chat ? { ...fields.chat, on: true, url: chat.url, domain: chat.domain } : fields.chat,
  };
}

/** How the services are reached, as the fields say. */
export function addressOf(f: TenantFields, authority: string): TenantAddress {
  const plain = ({ on, url, account }: ServiceFields) => (on ? { url: url.trim(), account: account.trim() } : null);
  const { people } = f;
  return {
    kind: 'tenant',
    people:
      people.by === 'scim'
        ? { by: 'scim', url: people.url.trim(), account: people.account.trim() || null }
        : people.by === 'ldap'
          ? { by: 'ldap', url: people.url.trim(), base: people.base.trim(), account: people.account.trim() }
          : { by: 'list', logins: people.logins.split(/[\s,;]+/).filter(Boolean) },
    mail: f.mail.on
      ? {
          host: f.mail.host.trim(),
          port: f.mail.port,
          encryption: f.mail.encryption,
          account: f.mail.account.trim(),
          separator: f.mail.separator,
        }
      : null,
    groupware: plain(f.groupware),
    drives: plain(f.drives),
    sites: plain(f.sites),
    chat: f.chat.on ? { url: f.chat.url.trim(), domain: f.chat.domain.trim() } : null,
    authority: authority.trim() || null,
  };
}

/** What was said anew of what opens the services; null where nothing was. */
export function secretsOf(f: TenantFields): string | null {
  const said: TenantSecrets = {};
  for (const service of Object.keys(f) as TenantService[]) if (f[service].on && f[service].secret !== '') said[service] = f[service].secret;
  return Object.keys(said).length ? JSON.stringify(said) : null;
}

/** What the fields lack before anything can be asked; '' for nothing. */
export function lacks(f: TenantFields): string {
  const missing = (fields: ServiceFields, ...texts: string[]) => fields.on && texts.some((t) => t.trim() === '');
  const { people } = f;
  if (people.by === 'list' ? people.logins.trim() === '' : people.url.trim() === '') return 'Say where people are listed.';
  if (missing(f.mail, f.mail.host, f.mail.account)) return 'Say where mail is, and by which account.';
  if (missing(f.groupware, f.groupware.url, f.groupware.account)) return 'Say where calendars are, and by which account.';
  if (missing(f.drives, f.drives.url, f.drives.account)) return 'Say where drives are, and by which account.';
  if (missing(f.sites, f.sites.url, f.sites.account)) return 'Say where sites are, and by which account.';
  if (missing(f.chat, f.chat.url, f.chat.domain)) return 'Say where the chat is, and its domain.';
  return [f.mail, f.groupware, f.drives, f.sites, f.chat].some((s) => s.on) ? '' : 'Choose what is to be protected.';
}
