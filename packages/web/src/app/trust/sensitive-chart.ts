import type { Sensitive } from '@lithodex/contract';
import { countOf, formatCount, formatMoment } from '@lithodex/core';
import type { Data, Layout } from 'plotly.js';
import { byteTicks, colour } from '../ui/plot';

/** Colours of the areas, from below. */
const shades = ['ink-2', 'incremental', 'lapis', 'warn', 'copy', 'fail'];
const mostAreas = 6;

/** Findings by pattern, one area above the other, with the largest rise named. `zone`: of the person. */
export function sensitiveChart(
  told: Sensitive,
  zone: string,
): { readonly traces: Data[]; readonly layout: Partial<Layout>; readonly words: string } {
  const nameOf = (id: string) => told.patterns.find((p) => p.id === id)?.name ?? id;
  const x = told.days.map((at) => new Date(at).toISOString());
  const last = (line: Sensitive['lines'][number]) => line.findings.at(-1) ?? 0;
  const lines = [...told.lines].sort((a, b) => last(b) - last(a)).slice(0, mostAreas);
  const traces = lines.map((line, i): Data => ({
    type: 'scatter',
    mode: 'lines',
    name: nameOf(line.pattern),
    stackgroup: 'all',
    x,
    y: [...line.findings],
    hovertemplate: '%{y:,}',
    line: { width: 0.5, color: colour(shades[i % shades.length]!) },
    fillcolor: colour(shades[i % shades.length]!),
  }));
  const sums = told.days.map((_, d) => lines.reduce((sum, l) => sum + l.findings[d]!, 0));
  const { jump } = told;
  const words = `${countOf(sums.at(-1) ?? 0, 'finding')} in the newest points, ${countOf(sums[0] ?? 0, 'finding')} at the beginning`;
  return {
    traces,
    layout: {
      yaxis: byteTicks(Math.max(1, ...sums), (v) => formatCount(v)),
      xaxis: { hoverformat: '%d %b %Y' },
      showlegend: true,
      legend: { orientation: 'h', y: -0.16 },
      margin: { l: 58, r: 10, t: 26, b: 26 },
      ...(jump && {
        shapes: [
          {
            type: 'line',
            xref: 'x',
            yref: 'paper',
            x0: new Date(jump.at).toISOString(),
            x1: new Date(jump.at).toISOString(),
            y0: 0,
            y1: 1,
            line: { color: colour('ink'), width: 1 },
          },
        ],
        annotations: [
          {
            x: new Date(jump.at).toISOString(),
            yref: 'paper',
            y: 1,
            yanchor: 'bottom',
            xanchor: new Date(jump.at).getTime() > (told.days[0]! + told.days.at(-1)!) / 2 ? 'right' : 'left',
            showarrow: false,
            text: `${formatMoment(jump.at, zone)}: +${formatCount(jump.added)} in ${jump.workload.name}`,
            font: { color: colour('ink') },
          },
        ],
      }),
    },
    words,
  };
}
