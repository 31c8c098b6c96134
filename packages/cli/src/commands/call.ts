import type { Command } from 'commander';
import fs from 'node:fs';
import { pipeline } from 'node:stream/promises';
import { text as textOf } from 'node:stream/consumers';
import { routes, type Route, type RouteName } from '@lithodex/contract';
import { z } from 'zod';
import { CliError } from '../errors';
import { table } from '../table';
import { unasked } from '../unasked';
import type { Adds } from './common';

const known = Object.entries(routes) as [RouteName, Route][];
const fieldsOf = (schema: z.ZodType | undefined): string[] => (schema instanceof z.ZodObject ? Object.keys(schema.shape) : []);

/** A value as it was typed: JSON where it is some, else text. */
function valueOf(text: string): unknown {
  try {
    return JSON.parse(text);
  } catch {
    return text;
  }
}

interface Sent {
  readonly id?: string;
  readonly query: Record<string, string>;
  readonly body: unknown;
}

/** What is sent by a route: `key=value` goes to where the route has such a field. Throws USAGE. */
export function sentBy(name: RouteName, words: readonly string[], given: unknown): Sent {
  const route: Route = routes[name];
  const query: Record<string, string> = {};
  const body: Record<string, unknown> = {};
  let id: string | undefined;
  for (const word of words) {
    const [, key = '', value = ''] = /^([^=]+)=(.*)$/s.exec(word) ?? [];
    if (key === 'id' && route.params) id = value;
    else if (fieldsOf(route.query).includes(key)) query[key] = value;
    else if (key !== '' && route.body) body[key] = valueOf(value);
    else throw new CliError('USAGE', `${name} takes ${takes(route) || 'nothing'}, not "${word}".`);
  }
  if (route.params && id === undefined) throw new CliError('USAGE', `${name} needs id=…`);
  const whole = !route.body ? undefined : given === undefined ? body : { ...(given as object), ...body };
  const read = route.body?.safeParse(whole);
  if (read && !read.success) throw new CliError('USAGE', `The body does not fit:\n${z.prettifyError(read.error)}`);
  return { ...(id !== undefined && { id }), query, body: whole };
}

function takes(route: Route): string {
  const body = route.body ? fieldsOf(route.body) : [];
  return [
    ...(route.params ? ['id=…'] : []),
    ...fieldsOf(route.query).map((f) => `${f}=…`),
    ...(body.length ? body.map((f) => `${f}=…`) : route.body ? ['--body FILE'] : []),
  ].join(' ');
}

/** Any route of the API, by its name. */
export const addCall: Adds = (program, opens) => {
  program
    .command('call')
    .description('call any route of the API by its name')
    .argument('[route]', 'its name; without one, all are listed')
    .argument('[fields...]', 'key=value, each for what the route takes: id, query, body')
    .option('--body <file>', 'the body as JSON; - for what comes in')
    .option('--out <file>', 'where what is no JSON goes')
    .action(async (name: string | undefined, words: string[], o: { body?: string; out?: string }, command: Command) => {
      if (name === undefined) {
        const rows = known.filter(([n]) => unasked(n) === undefined).map(([n, r]) => [n, r.summary, takes(r)]);
        process.stdout.write(`${table(['Route', 'What it does', 'Takes'], rows)}\n`);
        return;
      }
      if (!Object.hasOwn(routes, name)) throw new CliError('NOT_FOUND', `There is no route "${name}". "lithodex cli call" lists them.`);
      const route = name as RouteName;
      const why = unasked(route);
      if (why !== undefined) throw new CliError('USAGE', `${name} is not called from here: ${why}.`);
      const text = o.body === undefined ? undefined : o.body === '-' ? await textOf(process.stdin) : fs.readFileSync(o.body, 'utf8');
      const sent = sentBy(route, words, text === undefined ? undefined : valueOf(text));
      await opens(command, async (io) => {
        if ((routes[route] as Route).raw) {
          const { body } = await io.server.stream(route, sent);
          if (o.out) await pipeline(body, fs.createWriteStream(o.out, { flags: 'wx', mode: 0o600 }));
          else await pipeline(body, process.stdout, { end: false });
          return;
        }
        const answer = await io.server.call(route, sent as object);
        io.out(JSON.stringify(answer, null, 2));
      });
    });
};
