import type { IncomingMessage, ServerResponse } from 'node:http';

export interface DirectoryPerson {
  readonly login: string;
  readonly name: string;
  readonly mail: string;
  readonly active?: boolean;
  readonly shared?: boolean;
}
export interface DirectoryGroup {
  readonly name: string;
  /** Logins of people and names of groups. */
  readonly members: readonly string[];
}
export interface DirectoryContent {
  readonly people: readonly DirectoryPerson[];
  readonly groups: readonly DirectoryGroup[];
}

const most = 200;

/** Answers a question for people and groups by SCIM 2.0. */
export function answerScim(content: DirectoryContent, request: IncomingMessage, response: ServerResponse): void {
  const url = new URL(request.url ?? '/', 'http://directory');
  const what = url.pathname.split('/').at(-1);
  const all =
    what === 'Users'
      ? content.people.map((p) => ({
          schemas: ['urn:ietf:params:scim:schemas:core:2.0:User'],
          id: `u-${p.login}`,
          userName: p.login,
          displayName: p.name,
          active: p.active ?? true,
          ...(p.shared && { userType: 'shared' }),
          emails: [{ value: p.mail, primary: true }],
        }))
      : what === 'Groups'
        ? content.groups.map((g) => ({
            schemas: ['urn:ietf:params:scim:schemas:core:2.0:Group'],
            id: `g-${g.name}`,
            displayName: g.name,
            members: g.members.map((m) => {
              const isGroup = content.groups.some((o) => o.name === m);
              return { value: `${isGroup ? 'g' : 'u'}-${m}`, type: isGroup ? 'Group' : 'User' };
            }),
          }))
        : undefined;
  if (!all || request.method !== 'GET') {
    response.writeHead(404).end();
    return;
  }
  const from = Math.max(1, Number(url.searchParams.get('startIndex') ?? 1));
  const count = Math.min(most, Math.max(0, Number(url.searchParams.get('count') ?? most)));
  const Resources = all.slice(from - 1, from - 1 + count);
  response.writeHead(200, { 'content-type': 'application/scim+json' });
  response.end(
    JSON.stringify({
      schemas: ['urn:ietf:params:scim:api:messages:2.0:ListResponse'],
      totalResults: all.length,
      startIndex: from,
      itemsPerPage: Resources.length,
      Resources,
    }),
  );
}
