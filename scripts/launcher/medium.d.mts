/** What a medium starts, and where it reports in. */
export interface MediumWanted {
  readonly server: string;
  readonly code: string;
  readonly name?: string;
  /** File of the certificate authority that the server's certificate is checked with. */
  readonly authority?: string;
  readonly out: string;
  readonly kernel?: 'standard' | 'virtual';
}
export function medium(
  wanted: MediumWanted,
): Promise<{ readonly bytes: number; readonly sha256: string; readonly version: string; readonly kernel: string }>;
/** Throws for what no medium can be made with. */
export function checkWanted(wanted: Partial<MediumWanted>): void;
