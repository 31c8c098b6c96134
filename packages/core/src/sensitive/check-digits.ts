/** Digits of a text, as numbers. */
const digitsOf = (text: string): number[] => Array.from(text, Number);

const weighted = (digits: readonly number[], weights: readonly number[]): number =>
  weights.reduce((sum, weight, i) => sum + weight * digits[i]!, 0);

/** Whether digits hold by the formula of ISO/IEC 7812-1, annex B (modulus 10, double-add-double). */
export function holdsByLuhn(digits: string): boolean {
  let sum = 0;
  for (let i = 0; i < digits.length; i++) {
    const digit = digits.charCodeAt(digits.length - 1 - i) - 48;
    const doubled = i % 2 ? digit * 2 : digit;
    sum += doubled > 9 ? doubled - 9 : doubled;
  }
  return sum % 10 === 0;
}

/** Remainder of a decimal number of any length. */
function remainder(digits: string, by: number): number {
  let rest = 0;
  for (let i = 0; i < digits.length; i++) rest = (rest * 10 + digits.charCodeAt(i) - 48) % by;
  return rest;
}

/** Lengths of account numbers by country: ISO 13616, register of formats. */
const accountLengths: Readonly<Record<string, number>> = {
  AD: 24, AE: 23, AL: 28, AT: 20, AZ: 28, BA: 20, BE: 16, BG: 22, BH: 22, BR: 29, BY: 28, CH: 21, CR: 22, CY: 28, CZ: 24, DE: 22, DK: 18, DO: 28, EE: 20, EG: 29, ES: 24, FI: 18,
  FO: 18, FR: 27, GB: 22, GE: 22, GI: 23, GL: 18, GR: 27, GT: 28, HR: 21, HU: 28, IE: 22, IL: 23, IQ: 23, IS: 26, IT: 27, JO: 30, KW: 30, KZ: 20, LB: 28, LC: 32, LI: 21, LT: 20,
  LU: 20, LV: 21, LY: 25, MC: 27, MD: 24, ME: 22, MK: 19, MR: 27, MT: 31, MU: 30, NL: 18, NO: 15, PK: 24, PL: 28, PS: 29, PT: 25, QA: 29, RO: 24, RS: 22, SA: 24, SC: 31, SD: 18,
  SE: 24, SI: 19, SK: 24, SM: 27, ST: 25, SV: 28, TL: 23, TN: 24, TR: 26, UA: 29, VA: 22, VG: 24, XK: 20,
}; // prettier-ignore

/** Whether an account number without spaces has the length of its country and holds by ISO 7064, MOD 97-10. */
export function holdsAsAccount(text: string): boolean {
  if (accountLengths[text.slice(0, 2)] !== text.length) return false;
  const turned = text.slice(4) + text.slice(0, 4);
  let digits = '';
  for (const sign of turned) digits += sign >= 'A' ? String(sign.charCodeAt(0) - 55) : sign;
  return remainder(digits, 97) === 1;
}

/** Whether a day of this month and year is there. `year`: of four digits. */
function isDay(year: number, month: number, day: number): boolean {
  return month >= 1 && month <= 12 && day >= 1 && day <= new Date(Date.UTC(year, month, 0)).getUTCDate();
}

/** A year of two digits stands for one of several centuries: a day is there if it is in any. */
const isDayInAny = (year: number, month: number, day: number) => isDay(1900 + year, month, day) || isDay(2000 + year, month, day);

/** Eleven digits of Norway: day of birth, and two check digits modulo 11 (regulation on the population register, § 2-2). */
export function holdsInNorway(text: string): boolean {
  const d = digitsOf(text);
  // numbers given for a while have 40 added to the day
  const day = d[0]! * 10 + d[1]!;
  if (!isDayInAny(d[4]! * 10 + d[5]!, d[2]! * 10 + d[3]!, day > 40 ? day - 40 : day)) return false;
  const first = (11 - (weighted(d, [3, 7, 6, 1, 8, 9, 4, 5, 2]) % 11)) % 11;
  const second = (11 - (weighted(d, [5, 4, 3, 2, 7, 6, 5, 4, 3, 2]) % 11)) % 11;
  return first === d[9] && second === d[10];
}

/** Ten digits of Sweden, the year of two digits: day of birth, and a check digit modulo 10 (act on the population register, § 18). */
export function holdsInSweden(text: string): boolean {
  const d = digitsOf(text);
  const day = d[4]! * 10 + d[5]!;
  return isDayInAny(d[0]! * 10 + d[1]!, d[2]! * 10 + d[3]!, day > 60 ? day - 60 : day) && holdsByLuhn(text);
}

const finnishSigns = '0123456789ABCDEFHJKLMNPRSTUVWXY';
/** Day of birth, a sign for the century, three digits and a check sign modulo 31 of Finland (decree on population information, § 2). */
export function holdsInFinland(text: string): boolean {
  const [day, month, year, number] = [text.slice(0, 2), text.slice(2, 4), text.slice(4, 6), text.slice(7, 10)];
  return isDayInAny(Number(year), Number(month), Number(day)) && finnishSigns[remainder(day + month + year + number, 31)] === text[10];
}

/** Eleven digits of Poland: day of birth with the century in the month, and a check digit modulo 10 (act on the population register, art. 15). */
export function holdsInPoland(text: string): boolean {
  const d = digitsOf(text);
  const month = d[2]! * 10 + d[3]!;
  const century = [1900, 2000, 2100, 2200, 1800][Math.floor(month / 20)]!;
  if (!isDay(century + d[0]! * 10 + d[1]!, month % 20, d[4]! * 10 + d[5]!)) return false;
  return (10 - (weighted(d, [1, 3, 7, 9, 1, 3, 7, 9, 1, 3]) % 10)) % 10 === d[10];
}

const spanishSigns = 'TRWAGMYFPDXBNJZSQVHLCKE';
/** Eight digits, or a letter and seven, and a check letter modulo 23 of Spain (royal decree 1553/2005). */
export function holdsInSpain(text: string): boolean {
  const first = 'XYZ'.indexOf(text[0]!);
  const digits = first >= 0 ? `${first}${text.slice(1, 8)}` : text.slice(0, 8);
  return spanishSigns[Number(digits) % 23] === text[8];
}
