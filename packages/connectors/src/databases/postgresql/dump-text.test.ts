import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { entriesOf, partsOf, qualified, quoted, renamed, renamedNumbers } from './dump-text';

const dump = `--
-- PostgreSQL database dump
--

SET statement_timeout = 0;

--
-- Name: t(); Type: FUNCTION; Schema: public; Owner: keeper
--

CREATE FUNCTION public.t() RETURNS trigger
    LANGUAGE plpgsql
    AS $_$ BEGIN
--
-- Name: hidden; Type: TABLE; Schema: public; Owner: keeper
--
RETURN NEW; END $_$;


--
-- Name: odd "name; Type: X; Schema: My; Owner: keeper; Type: TABLE; Schema: My Schema; Owner: keeper
--

CREATE TABLE "My Schema"."odd ""name" (
    a text DEFAULT E'it\\'s -- no;\\n--\\n-- Name: b; Type: TABLE; Schema: c; Owner: d'::text
);

--
-- PostgreSQL database dump complete
--

`;

describe('a dump as text', () => {
  it('is taken apart at its headings, not at what looks like one inside', () => {
    const entries = entriesOf(dump);
    expect(entries.map((e) => [e.type, e.schema])).toEqual([
      ['FUNCTION', 'public'],
      ['TABLE', 'My Schema'],
    ]);
    expect(entries[0]!.text).toContain('hidden');
    expect(entries[1]!.text.endsWith(');\n')).toBe(true);
  });

  it('gives what was set behind an object to the next one', () => {
    const of = (name: string, text: string) => `--\n-- Name: ${name}; Type: TABLE; Schema: s; Owner: o\n--\n\n${text}\n\n\n`;
    const found = entriesOf(`${of('a', 'CREATE a;\n\nSET default_table_access_method = heap;')}${of('b', 'CREATE b;')}`);
    expect(found.map((e) => e.text.split('\n').slice(4).join(' ').trim())).toEqual([
      'CREATE a;',
      'SET default_table_access_method = heap;  CREATE b;',
    ]);
  });

  it('is whole in its parts, whatever the bodies are', () => {
    const word = fc.stringMatching(/^[a-z '"$;\n-]{0,30}$/);
    fc.assert(
      fc.property(fc.array(word, { maxLength: 6 }), fc.boolean(), (texts, ends) => {
        const bodies = texts.map((t) => `SELECT '${t.replaceAll("'", "''")}', ${quoted(t)}, $q$${t.replaceAll('$', '')}$q$;`);
        const whole = bodies.map((b, i) => `--\n-- Name: n${i}; Type: VIEW; Schema: s; Owner: o\n--\n\n${b}\n\n\n`).join('');
        const found = entriesOf(`SET a;\n\n${whole}${ends ? '--\n-- PostgreSQL database dump complete\n--\n' : ''}`);
        expect(found.map((e) => e.text.split('\n').slice(4).join('\n').trimEnd())).toEqual(bodies.map((b) => b.trimEnd()));
      }),
    );
  });
});

describe('names of tables', () => {
  it('are found again as they were written', () => {
    fc.assert(
      fc.property(fc.string({ minLength: 1 }), fc.string({ minLength: 1 }), (schema, name) => {
        expect(partsOf(qualified(schema, name))).toEqual({ schema, name });
      }),
    );
    expect(partsOf('alone')).toBeUndefined();
    expect(partsOf('a.b.c')).toBeUndefined();
  });

  it('become others where they are names, and stay in texts', () => {
    const how = { schema: 'public', relations: new Map([['tariff', 'tariff_x']]), own: (n: string) => `${n}_x` };
    const cases: [string, string][] = [
      [
        "CREATE TABLE public.tariff (a text DEFAULT 'public.tariff', tariff int);",
        'CREATE TABLE public."tariff_x" (a text DEFAULT \'public.tariff\', tariff int);',
      ],
      [
        'ALTER TABLE ONLY public.tariff\n    ADD CONSTRAINT tariff_pkey PRIMARY KEY (id);',
        'ALTER TABLE ONLY public."tariff_x"\n    ADD CONSTRAINT "tariff_pkey_x" PRIMARY KEY (id);',
      ],
      [
        'CREATE UNIQUE INDEX "a b" ON public.tariff USING btree (tariff);',
        'CREATE UNIQUE INDEX "a b_x" ON public."tariff_x" USING btree (tariff);',
      ],
      ['ALTER TABLE public.tariff CLUSTER ON tariff_pkey;', 'ALTER TABLE public."tariff_x" CLUSTER ON "tariff_pkey_x";'],
      ['SELECT other.tariff, public.tariffs, "public".tariff', 'SELECT other.tariff, public.tariffs, "public"."tariff_x"'],
    ];
    for (const [from, to] of cases) expect(renamed(from, how)).toBe(to);
  });

  it('become others also in calls that give numbers', () => {
    const relations = new Map([["it's", 'x']]);
    expect(renamedNumbers(`nextval('public."it''s"'::regclass), nextval('other."it''s"'::regclass)`, 'public', relations)).toBe(
      `nextval('"public"."x"'::regclass), nextval('other."it''s"'::regclass)`,
    );
    expect(renamedNumbers(`SELECT pg_catalog.setval('"public"."it''s"', 3, true);`, 'public', relations)).toBe(
      `SELECT pg_catalog.setval('"public"."x"', 3, true);`,
    );
  });
});
