import type { TargetDetail } from '@lithodex/contract';
import { expectedRoom, fillDate, forecastRoom, formatBytes } from '@lithodex/core';
import type { Data, Layout } from 'plotly.js';
import { byteTicks, colour } from '../ui/plot';

const day = 86_400_000;

export interface RoomChart {
  readonly traces: Data[];
  readonly layout: Partial<Layout>;
  readonly words: string;
}

const date = (at: number) => new Date(at).toLocaleDateString('en-GB', { day: 'numeric', month: 'short', year: 'numeric' });

/** The room of a target so far, and as it goes on: trend with the week in it, and the band in which about four of five futures lie. */
export function roomChart(target: TargetDetail, now: number): RoomChart {
  const { samples } = target;
  const last = samples.at(-1);
  const forecast = forecastRoom(samples);
  const capacity = target.free === null || target.used === null ? undefined : target.free + target.used;
  const iso = (at: number) => new Date(at).toISOString();
  const past: Data = {
    type: 'scatter',
    mode: 'lines',
    name: 'used',
    x: samples.map((s) => iso(s.at)),
    y: samples.map((s) => s.used),
    text: samples.map((s) => formatBytes(s.used)),
    hovertemplate: '%{text}',
    line: { color: colour('lapis'), width: 2 },
  };
  if (!forecast || !last)
    return {
      traces: [past],
      layout: scaled(samples.map((s) => s.used)),
      words: 'Too little is known yet to tell how it goes on: four days are needed.',
    };
  const fill = capacity === undefined ? undefined : fillDate(forecast, last.at, capacity);
  const near = Math.max(30, Math.min(400, (1.15 * ((fill?.expected ?? now + 120 * day) - now)) / day));
  const ahead = Array.from({ length: Math.ceil(near) + 1 }, (_, i) => last.at + i * day);
  const course = (perDay: number) => ahead.map((at) => expectedRoom(forecast, last.at, at, perDay));
  const line = (name: string, y: number[], more: object): Data => ({
    type: 'scatter',
    mode: 'lines',
    name,
    x: ahead.map(iso),
    y,
    text: y.map((v) => formatBytes(v)),
    hovertemplate: '%{text}',
    ...more,
  });
  const quiet = { line: { width: 0 }, hoverinfo: 'skip', hovertemplate: undefined };
  const expected = course(forecast.perDay);
  const shown = capacity !== undefined && capacity < 4 * Math.max(...expected, last.used);
  return {
    traces: [
      line('at least', course(forecast.low), quiet),
      line('at most', course(forecast.high), { ...quiet, fill: 'tonexty', fillcolor: `${colour('incremental')}40` }),
      line('expected', expected, { line: { color: colour('incremental'), width: 2, dash: 'dash' } }),
      past,
    ],
    layout: {
      ...scaled([...samples.map((s) => s.used), ...expected, ...(shown ? [capacity] : [])]),
      ...(shown && {
        shapes: [
          {
            type: 'line',
            xref: 'paper',
            x0: 0,
            x1: 1,
            y0: capacity,
            y1: capacity,
            line: { color: colour('fail'), width: 1, dash: 'dash' },
          },
        ],
        annotations: [
          {
            xref: 'paper',
            x: 0,
            y: capacity,
            yanchor: 'bottom',
            xanchor: 'left',
            showarrow: false,
            text: 'full',
            font: { color: colour('fail') },
          },
        ],
      }),
    },
    words: sentence(forecast, fill, now),
  };
}

function scaled(values: readonly number[]): Partial<Layout> {
  return { yaxis: byteTicks(Math.max(0, ...values), (v) => formatBytes(v)), xaxis: { hoverformat: '%d %b %Y' } };
}

function sentence(f: NonNullable<ReturnType<typeof forecastRoom>>, fill: ReturnType<typeof fillDate> | undefined, now: number): string {
  const grows = f.perDay >= 0 ? `It grows by ${formatBytes(f.perDay)} a day` : `It shrinks by ${formatBytes(-f.perDay)} a day`;
  const between = `four times of five between ${formatBytes(f.low)} and ${formatBytes(f.high)}`;
  const far = (at: number) => at > now + 10 * 365 * day;
  const when = !fill
    ? ''
    : fill.expected === undefined
      ? ' It does not fill up like this.'
      : far(fill.expected)
        ? ' It does not fill up within ten years.'
        : ` Full about ${date(fill.expected)}${fill.earliest === undefined ? '' : `, at the earliest ${date(fill.earliest)}`}, ${fill.latest === undefined || far(fill.latest) ? 'at the latest after ten years or never' : `at the latest ${date(fill.latest)}`}.`;
  return `${grows}, ${between}.${when}${f.estimated ? ` Estimated: only ${Math.round(f.span)} days are known.` : ''}`;
}
