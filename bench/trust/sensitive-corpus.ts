/** Draws numbers that are the same for the same seed: mulberry32. */
export function drawing(seed: number): () => number {
  let state = seed >>> 0;
  return () => {
    state = (state + 0x6d2b79f5) >>> 0;
    let t = Math.imul(state ^ (state >>> 15), 1 | state);
    t = (t + Math.imul(t ^ (t >>> 7), 61 | t)) ^ t;
    return ((t ^ (t >>> 14)) >>> 0) / 4_294_967_296;
  };
}

export interface Planted {
  readonly pattern: string;
  readonly text: string;
  /** Whether it is one, or only looks like one. */
  readonly real: boolean;
}

type Make = (draw: () => number) => string;
const digits = (draw: () => number, n: number) => Array.from({ length: n }, () => Math.floor(draw() * 10)).join('');
const pick = <T>(draw: () => number, of: readonly T[]): T => of[Math.floor(draw() * of.length)]!;
const two = (n: number) => String(n).padStart(2, '0');
const between = (draw: () => number, from: number, to: number) => from + Math.floor(draw() * (to - from + 1));

/** Check digit of ISO/IEC 7812-1, reckoned from the left. */
function luhnDigit(body: string): string {
  let sum = 0;
  Array.from(body)
    .reverse()
    .forEach((sign, i) => {
      let d = Number(sign);
      if (i % 2 === 0) {
        d *= 2;
        if (d > 9) d -= 9;
      }
      sum += d;
    });
  return String((10 - (sum % 10)) % 10);
}

const card: Make = (draw) => {
  const [begin, length] = pick(draw, [['4', 16], ['51', 16], ['2230', 16], ['34', 15], ['36', 14], ['6011', 16], ['3530', 16]] as const); // prettier-ignore
  const body = begin + digits(draw, length - begin.length - 1);
  const whole = body + luhnDigit(body);
  if (length !== 16) return whole;
  return pick(draw, [whole, whole.replace(/(\d{4})(?=\d)/g, '$1 '), whole.replace(/(\d{4})(?=\d)/g, '$1-')]);
};

const account: Make = (draw) => {
  const [country, form] = pick(draw, [['NO', 11], ['SE', 20], ['PL', 24], ['DE', 18], ['FI', 14]] as const); // prettier-ignore
  const body = digits(draw, form);
  const numbers = Array.from(`${body}${country}00`, (s) => (s >= 'A' ? String(s.charCodeAt(0) - 55) : s)).join('');
  const check = 98 - Number(BigInt(numbers) % 97n);
  const whole = `${country}${two(check)}${body}`;
  return pick(draw, [whole, whole.replace(/(.{4})(?=.)/g, '$1 ')]);
};

const birth = (draw: () => number) => ({
  day: two(between(draw, 1, 28)),
  month: two(between(draw, 1, 12)),
  year: two(between(draw, 0, 99)),
});

const norway: Make = (draw) => {
  for (;;) {
    const { day, month, year } = birth(draw);
    const nine = day + month + year + digits(draw, 3);
    const check = (text: string, by: readonly number[]) => (11 - (by.reduce((sum, w, i) => sum + w * Number(text[i]), 0) % 11)) % 11;
    const first = check(nine, [3, 7, 6, 1, 8, 9, 4, 5, 2]);
    const second = first === 10 ? 10 : check(nine + String(first), [5, 4, 3, 2, 7, 6, 5, 4, 3, 2]);
    if (second !== 10) return nine + String(first) + String(second);
  }
};

const sweden: Make = (draw) => {
  const { day, month, year } = birth(draw);
  const body = year + month + day + digits(draw, 3);
  return `${body.slice(0, 6)}-${body.slice(6)}${luhnDigit(body)}`;
};

const finland: Make = (draw) => {
  const { day, month, year } = birth(draw);
  const number = digits(draw, 3);
  return `${day}${month}${year}-${number}${'0123456789ABCDEFHJKLMNPRSTUVWXY'[Number(day + month + year + number) % 31]!}`;
};

const poland: Make = (draw) => {
  const { day, month, year } = birth(draw);
  const body = year + month + day + digits(draw, 4);
  const sum = [1, 3, 7, 9, 1, 3, 7, 9, 1, 3].reduce((s, w, i) => s + w * Number(body[i]), 0);
  return body + String((10 - (sum % 10)) % 10);
};

const spain: Make = (draw) => {
  const number = digits(draw, 8);
  return `${number}${'TRWAGMYFPDXBNJZSQVHLCKE'[Number(number) % 23]!}`;
};

const makers: Readonly<Record<string, Make>> = {
  card,
  account,
  identityNorway: norway,
  identitySweden: sweden,
  identityFinland: finland,
  identityPoland: poland,
  identitySpain: spain,
};

/** The last digit or letter turned into another one: the form stays, the check does not hold. */
function spoilt(text: string, draw: () => number): string {
  const at = Array.from(text).findLastIndex((s) => /[0-9A-Z]/.test(s));
  const sign = text[at]!;
  const others = /\d/.test(sign) ? '0123456789' : 'ABCDEFGHJKLMNPRSTVWXYZ';
  const other = pick(
    draw,
    Array.from(others).filter((s) => s !== sign),
  );
  return text.slice(0, at) + other + text.slice(at + 1);
}

const words = 'berth tide pilot quay mooring lantern gauge hawser fender buoy crane manifest ledger harbour keel'.split(' ');

/** So many of each kind that are ones, and as many that only look so, in lines of a ledger with numbers that mean nothing. */
export function sensitiveCorpus(seed: number, each: number): { readonly lines: string[]; readonly planted: Planted[] } {
  const draw = drawing(seed);
  const patterns = Object.keys(makers);
  const planted: Planted[] = [];
  for (let i = 0; i < each; i++) {
    const pattern = patterns[i % patterns.length]!;
    planted.push({ pattern, text: makers[pattern]!(draw), real: true });
    const near = patterns[(i * 3) % patterns.length]!;
    planted.push({ pattern: near, text: spoilt(makers[near]!(draw), draw), real: false });
  }
  const lines = planted.map(({ text }) => {
    const noise = `${pick(draw, words)} ${digits(draw, between(draw, 1, 5))} ${pick(draw, words)} ${between(draw, 1, 28)}.${between(draw, 1, 12)}.2026`;
    return pick(draw, [`${noise}; ${text}; ${pick(draw, words)}`, `${pick(draw, words)}\t${text}\t${noise}`, `${noise} (${text})`]);
  });
  return { lines, planted };
}
