import type { Settings } from '@lithodex/contract';
import type { Knex } from 'knex';
import { columnsOf, keepMailServer, shownMailServer } from '../../records/notices/notice-rows';
import type { Secrets } from '../../base/secrets';
import { inForceAs, step, type Step } from './step';

/** Names of the platforms and database servers that a person has to connect anew, as what opens them is not kept. */
export async function unconnected(trx: Knex.Transaction, { platforms }: Settings): Promise<string[]> {
  const here = await trx('source').whereNot({ kind: 'files' }).whereNotNull('secret').select<{ name: string }[]>('name');
  return platforms.map((p) => p.name).filter((name) => !here.some((h) => h.name === name));
}

export function platformStep({ name, endpoint, by, account }: Settings['platforms'][number], missing: readonly string[]): Step {
  if (!missing.includes(name)) return step('platform', name, 'same', 'is connected here');
  const opener = by === 'password' ? `as ${account}, with its password` : 'with a certificate';
  return step('platform', name, 'leave', `connect it first: ${endpoint}, ${opener}`);
}

/** How mail goes out is taken where nobody has said it here, and nobody has to sign in for it. */
export async function* mailSteps(trx: Knex.Transaction, secrets: Secrets, { mail }: Settings): AsyncGenerator<Step> {
  if (!mail) return;
  const name = `${mail.host}:${mail.port}`;
  const { passwordKept, ...server } = mail;
  if (await shownMailServer(trx)) yield step('mail server', name, 'same', 'how mail goes out is known here');
  else if (passwordKept) yield step('mail server', name, 'leave', `to be given with the password of ${mail.account}`);
  else yield step('mail server', name, 'add', `from ${mail.from}`, () => keepMailServer(trx, secrets, server));
}

/** Who is told of what, from now on. `ready`: names of policies that are in force by then. */
export async function noticeStep(
  trx: Knex.Transaction,
  now: number,
  notice: Settings['notices'][number],
  ready: ReadonlySet<string>,
): Promise<Step> {
  const { name, about, policy, way, paused, signed } = notice;
  if (await trx('notice').where({ name }).first('id')) return step('notice', name, 'same', 'a notice of this name is here');
  if (signed) return step('notice', name, 'leave', 'to be added with a new secret');
  if (policy !== null && !ready.has(policy)) return step('notice', name, 'leave', `tells of ${policy}, which is not in force`);
  const to = way.by === 'mail' ? way.to.join(', ') : way.url;
  return step('notice', name, 'add', paused ? `paused, to ${to}` : `tells ${to} from now on`, async () => {
    const of = policy === null ? undefined : await inForceAs(trx, policy);
    const told = about.what === 'runs' ? { ...about, policyId: of?.id ?? null } : about;
    await trx('notice').insert({ ...columnsOf({ name, about: told, way, paused }), since: now });
  });
}
