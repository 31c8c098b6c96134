import { InstallationState, roles } from '@lithodex/contract';
import { AddressRefused, OutgoingClient } from '@lithodex/net';
import { z } from 'zod';

const silenceMs = 8000;
const mostBytes = 16 << 20;
const mostWorst = 5;

/** How another installation is reached, with what opens it. */
export interface InstallationAccess {
  readonly url: string;
  readonly token: string;
  readonly authority: string | null;
}

/** What another installation said of itself. */
export interface InstallationSaid {
  readonly state: InstallationState;
  readonly clockAhead: number;
}

/** Why it could not be asked, in words for people. */
export class InstallationTrouble extends Error {}

const level = z.enum(['fault', 'warning', 'absent']);
/** What is read of their answers: those of other versions may hold more. */
const Me = z.looseObject({ role: z.enum(roles), now: z.number() });
const Watch = z.looseObject({
  facts: z.looseObject({
    storedBytes: z.number().nonnegative(),
    oldestNewest: z.looseObject({ moment: z.number(), workload: z.string(), late: z.boolean() }).nullable(),
  }),
  matters: z.array(z.looseObject({ level, title: z.string(), since: z.number() })),
});
const Estate = z.looseObject({
  counts: z.looseObject({ all: z.int().nonnegative(), none: z.int().nonnegative(), matched: z.int().nonnegative() }),
});
const Targets = z.looseObject({
  rows: z.array(
    z.looseObject({
      name: z.string(),
      used: z.number().nullable(),
      free: z.number().nullable(),
      outlook: z.looseObject({ expected: z.number().nullable() }).nullable(),
    }),
  ),
});

/** Asks an installation how it is. Throws InstallationTrouble. */
export async function askInstallation({ url, token, authority }: InstallationAccess, now: number): Promise<InstallationSaid> {
  const client = new OutgoingClient(mostBytes, silenceMs);
  if (authority !== null) client.trust(authority);
  const ask = async <T>(path: string, schema: z.ZodType<T>): Promise<T> => {
    let status: number;
    let text: string;
    try {
      const answer = await client.request(new URL(`${url}/api/v1/${path}`), {
        method: 'GET',
        headers: { authorization: `Bearer ${token}` },
      });
      status = answer.statusCode;
      text = await answer.body.text();
    } catch (error) {
      throw new InstallationTrouble(error instanceof AddressRefused ? error.message : 'It does not answer.');
    }
    if (status === 401) throw new InstallationTrouble('It does not know the token, or lets it in no more.');
    if (status === 403) throw new InstallationTrouble('The token may not read there.');
    const parsed = status === 200 ? schema.safeParse(parsedJson(text)) : undefined;
    if (!parsed?.success) throw new InstallationTrouble('What answers there is no installation of a version that is known here.');
    return parsed.data;
  };
  try {
    const me = await ask('session', Me);
    if (me.role !== 'auditor') throw new InstallationTrouble('The token may do more than read: give one of an auditor.');
    const answers = {
      watch: await ask('watch', Watch),
      estate: await ask('estate?limit=1', Estate),
      targets: await ask('targets', Targets),
    };
    return { state: stateOf(answers), clockAhead: me.now - now };
  } finally {
    await client.close();
  }
}

function parsedJson(text: string): unknown {
  try {
    return JSON.parse(text);
  } catch {
    return undefined;
  }
}

interface Answers {
  readonly watch: z.infer<typeof Watch>;
  readonly estate: z.infer<typeof Estate>;
  readonly targets: z.infer<typeof Targets>;
}

/** The same of what is known here or was said there. */
export function stateOf({ watch: { facts, matters }, estate: { counts }, targets: { rows } }: Answers): InstallationState {
  const count = (l: z.infer<typeof level>) => matters.filter((m) => m.level === l).length;
  const { oldestNewest: oldest } = facts;
  return InstallationState.parse({
    protected: counts.all - counts.none - counts.matched,
    all: counts.all,
    oldestNewest: oldest && { moment: oldest.moment, workload: oldest.workload, late: oldest.late },
    storedBytes: facts.storedBytes,
    matters: { fault: count('fault'), warning: count('warning'), absent: count('absent') },
    worst: matters.slice(0, mostWorst).map((m) => ({ level: m.level, title: m.title.slice(0, 500), since: m.since })),
    targets: rows.slice(0, 100).map((t) => ({ name: t.name.slice(0, 200), used: t.used, free: t.free, full: t.outlook?.expected ?? null })),
  });
}
