import type { ReportCell, ReportColumn } from '@lithodex/contract';

/** A time in ms, [from, to). */
export interface Period {
  readonly from: number;
  readonly to: number;
}

/** What one kind of report finds. */
export interface Findings {
  readonly says: string;
  readonly columns: ReportColumn[];
  readonly rows: ReportCell[][];
}
