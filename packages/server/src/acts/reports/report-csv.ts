import type { Report, ReportCell, ReportColumn } from '@lithodex/contract';
import { stringify } from 'csv-stringify/sync';

const second = 1000;
const units: Partial<Record<ReportColumn['as'], string>> = { bytes: 'bytes', share: 'share of 1', span: 'seconds', moment: 'UTC' };

function plain(cell: ReportCell, as: ReportColumn['as']): ReportCell {
  if (typeof cell !== 'number') return cell;
  if (as === 'moment') return new Date(cell).toISOString();
  if (as === 'span') return Math.round(cell / second);
  return as === 'share' ? Number(cell.toFixed(4)) : cell;
}

/** A report as CSV (RFC 4180); cells that a spreadsheet would take for formulas get an apostrophe in front. */
export function reportCsv({ columns, rows }: Report): string {
  const head = columns.map(({ name, as }) => (units[as] ? `${name} (${units[as]})` : name));
  const body = rows.map((row) => row.map((cell, i) => plain(cell, columns[i]!.as)));
  return stringify([head, ...body], { escape_formulas: true, record_delimiter: 'windows' });
}
