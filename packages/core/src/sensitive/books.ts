import { holdsAsAccount, holdsByLuhn, holdsInFinland, holdsInNorway, holdsInPoland, holdsInSpain, holdsInSweden } from './check-digits';

/** One kind of sensitive data that is looked for in text. */
export interface SensitivePattern {
  readonly id: string;
  /** Of how many there are, in words: "card numbers". */
  readonly name: string;
  readonly book: string;
  /** Where the form is laid down. */
  readonly source: string;
  /** What may be one. It takes linear time: nothing that repeats stands in what repeats. */
  readonly form: RegExp;
  /** What is left out before it is checked. */
  readonly without?: RegExp;
  /** Whether what has the form is one. */
  readonly holds?: (text: string) => boolean;
  /** A sign that is in all of them: only what stands around it is looked at. */
  readonly mark?: string;
  /** One of these words stands within {@link nearby} characters. */
  readonly near?: RegExp;
}

/** How far away a word may stand, in characters. */
export const nearby = 80;

/** First digits and lengths that are given out: ISO/IEC 7812, the ranges that issuers publish. */
function isCard(digits: string): boolean {
  const length = digits.length;
  const two = Number(digits.slice(0, 2));
  const four = Number(digits.slice(0, 4));
  const given =
    (digits.startsWith('4') && (length === 13 || length === 16 || length === 19)) ||
    (length === 16 &&
      ((two >= 51 && two <= 55) || (four >= 2221 && four <= 2720) || two === 65 || four === 6011 || (four >= 3528 && four <= 3589))) ||
    (length === 15 && (two === 34 || two === 37)) ||
    (length === 14 && (two === 36 || two === 38 || two === 39 || (four >= 3000 && four <= 3059))) ||
    (length >= 16 && length <= 19 && two === 62);
  return given && holdsByLuhn(digits) && !/^(\d)\1+$/.test(digits);
}

/** No digit or letter right before or after: it stands alone. */
const alone = (form: string) => new RegExp(`(?<![\\p{L}\\d])${form}(?![\\p{L}\\d])`, 'gu');

/** The patterns that ship, by book. */
export const shippedPatterns: readonly SensitivePattern[] = [
  {
    id: 'card',
    name: 'card numbers',
    book: 'Cards',
    source: 'ISO/IEC 7812-1: ranges of issuers, check digit modulo 10',
    form: /(?<![\dA-Za-z.-])(?<![\dA-Z]\d{2,3} )[2-6]\d{3}(?:\d{9,15}|[ -]\d{4}[ -]\d{4}[ -]\d{4}|[ -]\d{6}[ -]\d{4,5})(?![\d-]| \d{4})/g,
    without: /[ -]/g,
    holds: isCard,
  },
  {
    id: 'account',
    name: 'bank accounts',
    book: 'Bank accounts',
    source: 'ISO 13616: length by country, check digits by ISO 7064 MOD 97-10',
    form: /(?<![A-Za-z\d])[A-Z]{2}\d{2}(?:[A-Z\d]{11,30}|(?: [A-Z\d]{4}){2,7}(?: [A-Z\d]{1,4})?)(?![A-Za-z\d])/g,
    without: / /g,
    holds: holdsAsAccount,
  },
  {
    id: 'identityNorway',
    name: 'identity numbers of Norway',
    book: 'Identity numbers',
    source: 'day of birth, two check digits modulo 11',
    form: /(?<![\d.-])[0-7]\d[01]\d{3} ?\d{5}(?![\d-])/g,
    without: / /g,
    holds: holdsInNorway,
  },
  {
    id: 'identitySweden',
    name: 'identity numbers of Sweden',
    book: 'Identity numbers',
    source: 'day of birth, check digit modulo 10',
    form: /(?<![\d.-])(?:19|20)?\d{2}[01]\d[0-9]\d[-+]\d{4}(?![\d-])/g,
    without: /^(?:19|20)(?=\d{6})|[-+]/g,
    holds: holdsInSweden,
  },
  {
    id: 'identityFinland',
    name: 'identity numbers of Finland',
    book: 'Identity numbers',
    source: 'day of birth, check sign modulo 31',
    form: /(?<![A-Za-z\d.-])[0-3]\d[01]\d{3}[-+A-FU-Y]\d{3}[0-9A-Y](?![A-Za-z\d-])/g,
    holds: holdsInFinland,
  },
  {
    id: 'identityPoland',
    name: 'identity numbers of Poland',
    book: 'Identity numbers',
    source: 'day of birth with the century in the month, check digit modulo 10',
    form: /(?<![\d.-])\d{2}[0-3]\d[0-3]\d{6}(?![\d-])/g,
    holds: holdsInPoland,
  },
  {
    id: 'identitySpain',
    name: 'identity numbers of Spain',
    book: 'Identity numbers',
    source: 'check letter modulo 23',
    form: /(?<![A-Za-z\d.-])[XYZ\d]\d{7}-?[A-HJ-NP-TV-Z](?![A-Za-z\d-])/g,
    without: /-/g,
    holds: holdsInSpain,
  },
  {
    id: 'diagnosis',
    name: 'diagnoses',
    book: 'Health',
    source:
      'International Classification of Diseases, tenth revision: a letter, two digits, a point and one or two; beside a word of health',
    form: /(?<![A-Za-z\d])[A-TV-Z]\d{2}\.\d{1,2}(?![A-Za-z\d.])/g,
    near: /diagnos|icd|patient|befund|sykdom|sjukdom|chorob/i,
  },
  {
    id: 'mailAddress',
    name: 'mail addresses',
    book: 'Addresses',
    source: 'RFC 5322, addr-spec as it is used',
    mark: '@',
    form: /(?<![\w.+-])[\w.+-]{1,64}@[A-Za-z\d-]{1,63}(?:\.[A-Za-z\d-]{1,63}){1,5}(?![\w-])/g,
  },
  {
    id: 'privateKey',
    name: 'private keys',
    book: 'Credentials',
    source: 'RFC 7468, textual encodings',
    form: /-----BEGIN [A-Z ]{0,20}PRIVATE KEY-----/g,
  },
  {
    id: 'password',
    name: 'passwords in plain text',
    book: 'Credentials',
    source: 'a word for it, a sign, and a value',
    form: /(?:password|passwd|passord|lösenord|passwort|contraseña|secret_key|api_key)["']?[ \t]{0,4}[:=][ \t]{0,4}["']?[^\s"'<>]{6,80}/giu,
  },
  {
    id: 'token',
    name: 'signed tokens',
    book: 'Credentials',
    source: 'RFC 7519: three parts, the first two begin as JSON does',
    form: alone('eyJ[\\w-]{10,2000}\\.eyJ[\\w-]{10,4000}\\.[\\w-]{10,2000}'),
  },
];
