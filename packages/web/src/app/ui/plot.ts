import {
  afterRenderEffect,
  ChangeDetectionStrategy,
  Component,
  DestroyRef,
  type ElementRef,
  inject,
  InjectionToken,
  input,
  viewChild,
} from '@angular/core';
import type { Config, Data, Layout } from 'plotly.js';

/** What is used of the chart library. */
export interface Plotter {
  react(at: HTMLElement, traces: Data[], layout: Partial<Layout>, config: Partial<Config>): Promise<unknown>;
  purge(at: HTMLElement): void;
}

/** Where the chart library is served: as it comes, under its version, for to bundle it again would take longer than all the rest. */
const plotterFile = 'plotly-4.1.1/plotly-cartesian.min.js';

function loadPlotter(): Promise<Plotter> {
  return new Promise((resolve, reject) => {
    const script = document.createElement('script');
    script.src = plotterFile;
    script.onload = () => {
      resolve((globalThis as unknown as { Plotly: Plotter }).Plotly);
    };
    script.onerror = () => {
      script.remove();
      reject(new Error('The charts did not arrive. Reload the page to try again.'));
    };
    document.head.append(script);
  });
}

/** Loads the chart library when the first chart is shown. */
export const plotter = new InjectionToken<() => Promise<Plotter>>('plotter', {
  providedIn: 'root',
  factory: () => {
    let loaded: Promise<Plotter> | undefined;
    return () =>
      (loaded ??= loadPlotter().catch((error: unknown) => {
        loaded = undefined;
        throw error;
      }));
  },
});

/** A colour of the theme, for traces and layouts; it may be followed by two hex digits of opacity. */
export const colour = (name: string) => `var(--${name})`;

/** Ticks at round amounts, in words. */
export function byteTicks(most: number, told: (value: number) => string): { tickvals: number[]; ticktext: string[] } {
  if (!(most > 0)) return { tickvals: [0], ticktext: [told(0)] };
  const rough = most / 4;
  const power = 10 ** Math.floor(Math.log10(rough));
  const unit = [1, 2, 5, 10].map((n) => n * power).find((n) => n >= rough) ?? 10 * power;
  const tickvals = Array.from({ length: Math.floor((most * 1.1) / unit) + 1 }, (_, i) => i * unit);
  return { tickvals, ticktext: tickvals.map((v) => told(v)) };
}

/** Traces and layout with the colours that the theme has now. */
function coloured<T>(chart: T): T {
  const style = getComputedStyle(document.documentElement);
  return JSON.parse(JSON.stringify(chart).replace(/var\((--[\w-]+)\)/g, (_, name: string) => style.getPropertyValue(name).trim())) as T;
}

/** A chart that can be explored: drawn by Plotly in the colours of the theme. */
@Component({
  selector: 'lx-plot',
  changeDetection: ChangeDetectionStrategy.OnPush,
  template: `<div #at class="plot" role="img" [attr.aria-label]="label()" [style.height.px]="height()"></div>`,
  styles: ':host { display: block; } .plot { width: 100%; }',
})
export class Plot {
  readonly traces = input.required<Data[]>();
  readonly layout = input<Partial<Layout>>({});
  readonly label = input.required<string>();
  readonly height = input(220);
  private readonly at = viewChild.required<ElementRef<HTMLElement>>('at');
  private readonly load = inject(plotter);
  private drawn: Plotter | undefined;

  constructor() {
    afterRenderEffect(() => {
      const [traces, layout, height] = [this.traces(), this.layout(), this.height()];
      void this.draw(traces, layout, height);
    });
    const theme = new MutationObserver(() => void this.draw(this.traces(), this.layout(), this.height()));
    theme.observe(document.documentElement, { attributeFilter: ['data-bs-theme'] });
    inject(DestroyRef).onDestroy(() => {
      theme.disconnect();
      this.drawn?.purge(this.at().nativeElement);
    });
  }

  private async draw(traces: Data[], layout: Partial<Layout>, height: number): Promise<void> {
    const plot = await this.load();
    this.drawn = plot;
    const [ink, line] = [colour('ink-2'), colour('line')];
    const axis = { gridcolor: line, linecolor: line, zerolinecolor: line, tickcolor: line };
    const chart = coloured<{ traces: Data[]; layout: Partial<Layout> }>({
      traces,
      layout: {
        height,
        margin: { l: 58, r: 10, t: 8, b: 26 },
        paper_bgcolor: 'rgba(0,0,0,0)',
        plot_bgcolor: 'rgba(0,0,0,0)',
        font: { family: "'Instrument Sans Variable', sans-serif", size: 11.5, color: ink },
        showlegend: false,
        hovermode: 'x unified',
        hoverlabel: { bgcolor: colour('sheet'), bordercolor: line, font: { color: colour('ink') } },
        ...layout,
        xaxis: { ...axis, ...layout.xaxis },
        yaxis: { ...axis, rangemode: 'tozero', ...layout.yaxis },
      },
    });
    const config = { displayModeBar: false, responsive: true, showSendToCloud: false, plotlyServerURL: '' } as Partial<Config>;
    await plot.react(this.at().nativeElement, chart.traces, chart.layout, config);
  }
}
