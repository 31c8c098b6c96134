/** One line of the bench: medians in seconds; ratio is the peer's median by ours, above 1 when we are faster. */
export interface Result {
  readonly bench: string;
  readonly peer: string;
  readonly ours_s: number;
  readonly peer_s: number;
  readonly ratio: number;
  readonly runs: number;
  readonly peak_mb: number;
}

export function asText(r: Result): string {
  const seconds = (s: number) => (s < 0.1 ? `${(s * 1000).toFixed(1)} ms` : `${s.toFixed(2)} s`).padStart(9);
  return `${r.bench.padEnd(34)} ours ${seconds(r.ours_s)}   peer ${seconds(r.peer_s)}   ratio ${r.ratio.toFixed(2).padStart(6)}   ${r.peak_mb ? `peak ${r.peak_mb} MB` : ''}   (${r.peer}, ${r.runs} runs)`;
}

/** A figure with the bound it was promised to keep. */
export interface Kept {
  readonly bench: string;
  readonly found: number;
  /** The figure stays below this. */
  readonly below: number;
  readonly unit: string;
}

export function keptAsText({ bench, found, below, unit }: Kept): string {
  const holds = found < below ? 'holds' : 'DOES NOT HOLD';
  return `${bench.padEnd(34)} ${Number(found.toFixed(2))} ${unit}, below ${below} ${unit} wanted: ${holds}`;
}
