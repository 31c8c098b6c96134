import { gzipSync } from 'node:zlib';
import { Random } from './random';
import { put } from './servers';

const dayMs = 86_400_000;
const two = (n: number) => String(n).padStart(2, '0');
const names = [
  'Mira Holt',
  'Jorn Vik',
  'Sanne Dahl',
  'Pelle Strand',
  'Runa Berg',
  'Tove Lie',
  'Arvid Moe',
  'Liv Sund',
  'Odd Nes',
  'Ylva Rist',
];

/** An identity number that holds, of somebody who would be older than anybody is: such are not given out. */
function identity(random: Random): string {
  const check = (text: string, by: readonly number[]) => (11 - (by.reduce((sum, w, i) => sum + w * Number(text[i]), 0) % 11)) % 11;
  for (;;) {
    const nine = `${two(random.int(1, 28))}${two(random.int(1, 12))}${random.int(60, 99)}${random.int(500, 749)}`;
    const first = check(nine, [3, 7, 6, 1, 8, 9, 4, 5, 2]);
    const second = first === 10 ? 10 : check(nine + String(first), [5, 4, 3, 2, 7, 6, 5, 4, 3, 2]);
    if (second !== 10) return nine + String(first) + String(second);
  }
}

/** An account that holds, of a bank that only stands in examples. */
function account(random: Random): string {
  const body = `8601${String(random.int(0, 9_999_999)).padStart(7, '0')}`;
  const check = 98 - Number(BigInt(`${body}232400`) % 97n);
  return `NO${two(check)}${body}`;
}

function people(random: Random, count: number): string {
  const rows = Array.from({ length: count }, () => `${random.pick(names)};${identity(random)};${account(random)}`);
  return `name;number;account\n${rows.join('\n')}\n`;
}

/** What somebody was sent, and opened twice: the sample by which scans are tried does no harm. */
const invoice = gzipSync('invoice 7781\nLITHODEX-HARMLESS-SAMPLE-OF-MALWARE-7Q4X\n');

/** Lists of people, as they gather in offices: a few more each week. `night` counts from 0, `at` is its evening. */
export class GatheredLists {
  private readonly random = new Random(1913);

  constructor(private readonly folderOf: (server: string) => string) {}

  work(night: number, at: number): void {
    const office = this.folderOf('harbour-office');
    if (night % 7 === 0) put(`${office}/payroll/week-${two(night / 7 + 1)}.csv`, people(this.random, 40 + night), at - dayMs / 8);
    if (night === 0) {
      put(`${this.folderOf('dredge-plans')}/contractors/crews-and-families.csv`, people(this.random, 900), at - dayMs);
      put(`${this.folderOf('dredge-plans')}/contractors/next-of-kin.csv`, people(this.random, 300), at - 2 * dayMs);
    }
    if (night === 49) put(`${office}/letters/berth-07/invoice 7781.txt.gz`, invoice, at - dayMs / 6);
    if (night === 52) put(`${this.folderOf('customs-shed')}/declarations/2026/new/invoice-7781.txt.gz`, invoice, at - dayMs / 7);
  }
}
