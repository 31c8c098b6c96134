import { Client } from './harness';

/** A browser's way to where the organisation lets people in and back, with its cookies. `query`: what the way begins with. */
export async function comeByOrganisation(
  base: string,
  name: string,
  password: string,
  query = '',
): Promise<{ client: Client; page: string }> {
  const jar = new Map<string, string>();
  const go = async (url: string, form?: Record<string, string>): Promise<{ url: string; text: string }> => {
    const { host } = new URL(url);
    const cookies = [...jar].filter(([key]) => key.startsWith(`${host} `)).map(([key, value]) => `${key.split(' ')[1]}=${value}`);
    const answer = await fetch(url, {
      redirect: 'manual',
      headers: { cookie: cookies.join('; ') },
      ...(form && { method: 'POST', body: new URLSearchParams(form) }),
    });
    for (const set of answer.headers.getSetCookie()) {
      const [pair] = set.split(';');
      const at = pair!.indexOf('=');
      jar.set(`${host} ${pair!.slice(0, at)}`, pair!.slice(at + 1));
    }
    const to = answer.headers.get('location');
    return to ? go(new URL(to, url).href) : { url, text: await answer.text() };
  };
  const asked = await go(`${base}/api/v1/session/organisation${query}`);
  const { text } = await go(asked.url, { name, password });
  const client = new Client(() => base);
  client.useCookie(`lithodex=${jar.get(`${new URL(base).host} lithodex`) ?? ''}`);
  return { client, page: text };
}
