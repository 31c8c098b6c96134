import type { TenantService } from '@lithodex/kinds';

/** What has to be prepared where a service runs, as steps somebody can copy. */
export const serviceSteps: Readonly<
  Record<TenantService, { readonly name: string; readonly what: string; readonly steps: readonly string[] }>
> = {
  people: {
    name: 'People and groups',
    what: 'Who is there, who is new, who left, and who is in which group.',
    steps: [
      'SCIM 2.0: make a token that may read Users and Groups. No right to write is needed.',
      'LDAP: make an account that may read people and groups below one base.',
      'A shared mailbox is a person whose userType (SCIM) or employeeType (LDAP) is “shared”.',
    ],
  },
  mail: {
    name: 'Mail and notes (IMAP)',
    what: 'Mailboxes with all their folders, flags and times.',
    steps: [
      'On the mail server, make an account that signs in for others: as person*account, with the separator of your choice.',
      'Let it create folders, append messages and set flags; deleting is needed only where a restore is to replace.',
      'Keep CONDSTORE on: what has not changed is then not read.',
    ],
  },
  groupware: {
    name: 'Calendars and contacts (CalDAV, CardDAV)',
    what: 'Appointments, tasks and contacts.',
    steps: [
      'Make an account that may read and write the collections of everybody.',
      'Take the address of a person’s collections and put {login} where the person is named.',
    ],
  },
  drives: {
    name: 'Drives (WebDAV)',
    what: 'Files of people.',
    steps: [
      'Make an account that may read and write the files of everybody.',
      'Take the address of a person’s files and put {login} where the person is named.',
    ],
  },
  sites: {
    name: 'Sites (WebDAV)',
    what: 'Files of teams, and the pages of their wiki.',
    steps: ['Make an account that may read and write all sites.', 'Take the address below which each site is a folder.'],
  },
  chat: {
    name: 'Chats and channels (Matrix)',
    what: 'Rooms with everything that was said.',
    steps: [
      'Register an application service whose namespace holds all people (users: @.*) and restart the server.',
      'Its as_token is what is asked for here: it reads rooms and, in a restore, speaks for people at the time they spoke.',
    ],
  },
};
