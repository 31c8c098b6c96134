import fs from 'node:fs';
import { routes, type Answered, type BodyInput, type RouteName } from '@lithodex/contract';
import type { RunningServer } from '@lithodex/server';
import { asker, domain } from './harbour/office';
import type { StoryPeople } from './story-people';

/** The clerk may help the people of two groups of the office as well. */
export async function helpsAtTheDesk(db: RunningServer['deps']['db']): Promise<void> {
  const clerk = await db('person').where({ name: 'ilse.holm' }).first<{ id: number; remit: unknown }>('id', 'remit');
  const before = (typeof clerk.remit === 'string' ? JSON.parse(clerk.remit) : clerk.remit) as number[];
  const helped = await db('tag').whereIn('name', ['dredging', 'pilots']).select<{ workload_id: number }[]>('workload_id');
  const remit = JSON.stringify([...new Set([...before, ...helped.map((h) => h.workload_id)])]);
  await db('person').where({ id: clerk.id }).update({ remit });
}

/** Letters of the office are lost and brought back by the clerk. `folder`: where they lie. */
export async function clerkRestores(people: StoryPeople, folder: string, quiet: () => Promise<void>): Promise<void> {
  const { workloads } = await people.get<Answered<'estate'>>('ilse.holm', 'estate');
  const office = workloads.find((w) => w.name === 'harbour-office')!;
  const point = office.newestPoint!.id;
  const { rows } = await people.get<Answered<'tree'>>('ilse.holm', 'tree', point, `?path=${encodeURIComponent('letters/berth-07')}`);
  const letters = rows.slice(3, 9);
  for (const letter of letters) fs.rmSync(`${folder}/${letter.path}`);
  await people.call('ilse.holm', 'startRestore', {
    name: 'Letters of berth 7',
    picks: letters.map((l) => ({ pointId: point, path: l.path })),
    destination: { to: 'original' },
    reason: 'Deleted by mistake while sorting, asked for by the berth office',
  });
  await quiet();
}

/** The newest code that was mailed to somebody. */
function codeFor(address: string, mails: string): string {
  const all = fs.readdirSync(mails).sort().reverse();
  for (const name of all) {
    const { to, subject } = JSON.parse(fs.readFileSync(`${mails}/${name}`, 'utf8')) as { to: string[]; subject: string };
    const code = /^\d{6}(?= is your code)/.exec(subject)?.[0];
    if (to.includes(address) && code) return code;
  }
  throw new Error(`no code was mailed to ${address}`);
}

/** Somebody says by the link of the desk what they miss; it waits for the clerk. `mails`: the folder of what was mailed. */
export async function asksAtTheDesk(people: StoryPeople, api: string, mails: string): Promise<void> {
  const { workloads } = await people.get<Answered<'estate'>>('eva.vind', 'estate', '', `?q=${encodeURIComponent(asker.name)}`);
  const { id: workloadId } = workloads.find((w) => w.name === asker.name)!;
  const note = 'You said on the phone that something is gone. Look for it here, please.';
  const { path } = await people.call('ilse.holm', 'sendAsking', { workloadId, hours: 168, note });
  const link = new URL(path, api).searchParams.get('link')!;
  const headers: Record<string, string> = { 'content-type': 'application/json' };
  const call = async <N extends RouteName>(name: N, body: BodyInput<N>): Promise<Answered<N>> => {
    const answer = await fetch(`${api}${routes[name].path}`, { method: 'POST', headers, body: JSON.stringify(body) });
    if (!answer.ok) throw new Error(`${name}: ${await answer.text()}`);
    const [cookie] = answer.headers.getSetCookie();
    if (cookie) headers['cookie'] = cookie.split(';')[0]!;
    return (await answer.json()) as Answered<N>;
  };
  await call('ownCode', { link });
  const own = await call('ownSession', { link, code: codeFor(`${asker.login}@${domain}`, mails) });
  headers['x-lithodex-csrf'] = own.csrf;
  const found = await call('ownLook', { at: own.now, tops: ['Mail'] });
  const paths = found.groups.flatMap((g) => g.items.map((i) => i.path));
  if (paths.length)
    await call('ownAsk', { pointId: found.pointId, paths, words: 'They were in my inbox this morning, and now they are gone' });
}
