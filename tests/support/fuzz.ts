import fc from 'fast-check';

type Json = Record<string, unknown>;

/** Text that a schema asks for, and text that nobody would send. */
const oddText = fc.constantFrom(
  '',
  ' ',
  '\u0000',
  'a\nFAULT forged',
  '%00',
  '%2e%2e/keys',
  '../../etc/passwd',
  '\ud800',
  'half \udfff',
  '\u202etxt.exe',
  'ＡＢ',
  'e\u0301',
  'x'.repeat(120),
  'x'.repeat(121),
  'y'.repeat(5000),
  "'; DROP TABLE person; --",
  '{"$gt":""}',
  '-1',
  '1e999',
  '00000000-0000-4000-8000-000000000000',
  '*a'.repeat(60),
  '((((((((((',
  'tag "x',
  '2026-02-30',
  '24:00',
);
const oddNumber = fc.constantFrom(
  0,
  -1,
  1,
  0.5,
  2 ** 31,
  2 ** 32,
  2 ** 53,
  -(2 ** 53),
  8_640_000_000_000_000,
  -8_640_000_000_000_001,
  1e308,
  -1e308,
);
const odd = fc.oneof(oddText, oddNumber, fc.constantFrom(null, true, [], {}, [[]], { a: { b: {} } }), fc.jsonValue({ maxDepth: 2 }));

/** Values a JSON schema takes, its extremes often among them. Now and then something else. */
export function valuesOf(schema: Json, depth = 0): fc.Arbitrary<unknown> {
  return fc.oneof({ weight: 14, arbitrary: fitting(schema, depth) }, { weight: 1, arbitrary: odd });
}

function fitting(schema: Json, depth: number): fc.Arbitrary<unknown> {
  const options = (schema['anyOf'] ?? schema['oneOf']) as Json[] | undefined;
  if (options) return fc.oneof(...options.map((o) => fitting(o, depth)));
  if ('const' in schema) return fc.constant(schema['const']);
  if (Array.isArray(schema['enum'])) return fc.constantFrom(...(schema['enum'] as unknown[]));
  switch (schema['type']) {
    case 'object':
      return objects(schema, depth);
    case 'array': {
      const items = (schema['items'] as Json | undefined) ?? {};
      return fc.array(valuesOf(items, depth + 1), { minLength: Number(schema['minItems'] ?? 0), maxLength: depth > 3 ? 1 : 4 });
    }
    case 'integer':
    case 'number': {
      const [low, high] = [Number(schema['minimum'] ?? -(2 ** 53)), Number(schema['maximum'] ?? 2 ** 53)];
      const small = fc.integer({ min: Math.max(low, -5), max: Math.max(Math.max(low, -5), Math.min(high, 50)) });
      return fc.oneof(
        { weight: 4, arbitrary: small },
        { weight: 1, arbitrary: fc.constantFrom(low, high, low - 1, high + 1) },
        { weight: 1, arbitrary: oddNumber },
      );
    }
    case 'boolean':
      return fc.boolean();
    case 'null':
      return fc.constant(null);
    case 'string':
      return texts(schema);
    default:
      return odd;
  }
}

function objects(schema: Json, depth: number): fc.Arbitrary<unknown> {
  const properties = (schema['properties'] ?? {}) as Record<string, Json>;
  const required = new Set((schema['required'] ?? []) as string[]);
  const named = fc.record(Object.fromEntries(Object.entries(properties).map(([name, s]) => [name, valuesOf(s, depth + 1)])), {
    requiredKeys: [...required],
  });
  const more = schema['additionalProperties'];
  return typeof more === 'object' && more !== null && !Object.keys(properties).length
    ? fc.dictionary(fc.oneof(fc.string({ maxLength: 8 }), oddText), valuesOf(more as Json, depth + 1), { maxKeys: 3 })
    : named;
}

function texts(schema: Json): fc.Arbitrary<string> {
  const pattern = schema['pattern'];
  const plain = fc.string({
    minLength: Math.min(20, Number(schema['minLength'] ?? 0)),
    maxLength: Math.min(40, Number(schema['maxLength'] ?? 40)),
  });
  const fits =
    schema['format'] === 'uri'
      ? fc.constantFrom('http://127.0.0.1:9', 'https://[::1]:9/x', 'http://169.254.169.254/')
      : schema['format'] === 'email'
        ? fc.constantFrom('a@b.example', 'a+b@c.example')
        : undefined;
  const matching = typeof pattern === 'string' ? matchingOf(pattern) : undefined;
  const known = fits ?? matching;
  return known
    ? fc.oneof({ weight: 6, arbitrary: known }, { weight: 1, arbitrary: oddText })
    : fc.oneof({ weight: 3, arbitrary: plain }, { weight: 2, arbitrary: oddText });
}

function matchingOf(pattern: string): fc.Arbitrary<string> | undefined {
  try {
    return fc.stringMatching(new RegExp(pattern, 'u')).map((s) => s.slice(0, 200));
  } catch {
    return undefined;
  }
}
