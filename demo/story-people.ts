import { routes, type Answered, type BodyInput, type RouteName } from '@lithodex/contract';
import { password } from './harbour/story';

/** What the people of the story do through the API, each with a session of their own. */
export class StoryPeople {
  private readonly cookies = new Map<string, { cookie: string; csrf: string }>();

  /** `base`: address of the API. */
  constructor(private readonly base: string) {}

  private async session(person: string): Promise<{ cookie: string; csrf: string }> {
    const known = this.cookies.get(person);
    if (known) return known;
    const response = await fetch(`${this.base}${routes.signIn.path}`, {
      method: 'POST',
      headers: { 'content-type': 'application/json' },
      body: JSON.stringify({ name: person, password }),
    });
    const me = (await response.json()) as Answered<'me'>;
    const session = { cookie: response.headers.getSetCookie()[0]!.split(';')[0]!, csrf: me.csrf };
    this.cookies.set(person, session);
    return session;
  }

  async get<T>(person: string, name: RouteName, id: string | number = '', query = ''): Promise<T> {
    const { cookie } = await this.session(person);
    const response = await fetch(`${this.base}${routes[name].path.replace(':id', String(id))}${query}`, { headers: { cookie } });
    if (!response.ok) throw new Error(`${name}: ${await response.text()}`);
    return (await response.json()) as T;
  }

  async call<N extends RouteName>(
    person: string,
    name: N,
    ...rest: [BodyInput<N>] | [string | number, BodyInput<N>]
  ): Promise<Answered<N>> {
    const [id, body] = rest.length === 2 ? rest : ['', rest[0]];
    const { cookie, csrf } = await this.session(person);
    const response = await fetch(`${this.base}${routes[name].path.replace(':id', String(id))}`, {
      method: routes[name].method.toUpperCase(),
      headers: { cookie, 'x-lithodex-csrf': csrf, 'content-type': 'application/json' },
      body: JSON.stringify(body),
    });
    if (!response.ok) throw new Error(`${name}: ${await response.text()}`);
    return (await response.json()) as Answered<N>;
  }
}
