import type { HostSample } from '@lithodex/contract';
import { formatRate, formatShare, localTime } from '@lithodex/core';
import type { Data, Layout } from 'plotly.js';
import { byteTicks, colour } from '../ui/plot';

export interface HostChart {
  readonly label: string;
  readonly traces: Data[];
  readonly layout: Partial<Layout>;
}

type Sample = HostSample & { readonly at: number };
/** Room for rates at the left, px. */
export const rateMargin = { l: 74, r: 10, t: 8, b: 26 };
const everyQuarter = [0, 0.25, 0.5, 0.75, 1];

/** A host that was silent for longer leaves a hole, ms. */
const silentMs = 180_000;

/** Samples with a hole after each that was followed by silence. */
function withHoles(samples: readonly Sample[]): (Sample | { readonly at: number })[] {
  return samples.flatMap((s, i) => {
    const next = samples[i + 1];
    return next && next.at - s.at > silentMs ? [s, { at: s.at + 1 }] : [s];
  });
}

function line(
  samples: readonly Sample[],
  key: keyof HostSample,
  name: string,
  tint: string,
  told: (v: number) => string,
  zone: string,
): Data {
  const points = withHoles(samples);
  const values = points.map((s) => ('processor' in s ? s[key] : null));
  return {
    type: 'scatter',
    mode: 'lines',
    name,
    x: points.map((s) => localTime(s.at, zone)),
    y: values,
    text: values.map((v) => (v === null ? '' : told(v))),
    hovertemplate: '%{text}',
    line: { color: colour(tint), width: 1.6 },
  };
}

/** What a host was busy with: processors and memory, network, disks; times are read in `zone`. */
export function hostCharts(samples: readonly Sample[], zone: string): HostChart[] {
  if (!samples.length) return [];
  const pair = (
    label: string,
    [a, aWord]: readonly [keyof HostSample, string],
    [b, bWord]: readonly [keyof HostSample, string],
  ): HostChart[] => {
    const values = samples.flatMap((s) => [s[a], s[b]]).filter((v) => v !== null);
    if (!values.length) return [];
    const traces = [line(samples, a, aWord, 'lapis', formatRate, zone), line(samples, b, bWord, 'incremental', formatRate, zone)];
    return [
      { label, traces, layout: { margin: rateMargin, yaxis: byteTicks(Math.max(...values), formatRate), xaxis: { hoverformat: '%H:%M' } } },
    ];
  };
  return [
    {
      label: 'Processors and memory in use',
      traces: [
        line(samples, 'processor', 'processors', 'lapis', formatShare, zone),
        line(samples, 'memory', 'memory', 'incremental', formatShare, zone),
      ],
      layout: {
        margin: rateMargin,
        yaxis: { range: [0, 1], tickvals: everyQuarter, ticktext: everyQuarter.map(formatShare) },
        xaxis: { hoverformat: '%H:%M' },
      },
    },
    ...pair('Network, received and sent', ['received', 'received'], ['sent', 'sent']),
    ...pair('Disks, read and written', ['read', 'read'], ['written', 'written']),
  ];
}
