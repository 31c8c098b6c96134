import { ChangeDetectionStrategy, Component, computed, inject, input, output } from '@angular/core';
import { toObservable, toSignal } from '@angular/core/rxjs-interop';
import { RouterLink } from '@angular/router';
import type { ComparedItem, Compared, TreeRow, Version } from '@lithodex/contract';
import { formatBytes, formatMoment } from '@lithodex/core';
import { combineLatest, map, of, switchMap } from 'rxjs';
import { Api } from '../data/api';
import { outcome, type Outcome } from '../data/outcome';
import { Session } from '../data/session';
import { formatPipes } from '../ui/format-pipes';
import { FilePreviewPart } from './file-preview';

interface Line {
  readonly what: string;
  readonly then: string;
  readonly now: string;
  readonly differs: boolean;
}

/** One item of a point beside what is there now, property by property, and all its versions. */
@Component({
  selector: 'lx-item-side',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [FilePreviewPart, RouterLink, ...formatPipes],
  template: `<b class="name">{{ row().name }}</b>
    <div class="mute small">{{ moment() | moment }}{{ compares() ? ', beside what is there now' : '' }}</div>
    @if (problem()) {
      <div class="f small">{{ problem() }}</div>
    }
    @if (compares()) {
      <div class="d mute"><span></span><span>then</span><span>now</span></div>
    }
    @for (line of lines(); track line.what) {
      <div class="d" [class.ch]="line.differs">
        <span>{{ line.what }}</span><span class="name">{{ line.then }}</span
        ><span class="name">{{ line.differs ? line.now : compares() ? 'same' : '' }}</span>
      </div>
    } @empty {
      @if (!problem()) {
        <div class="skeleton"></div>
      }
    }
    @if (beside(); as to) {
      <a [routerLink]="to" [queryParams]="{ point: pointId(), path: row().path }">Line by line, beside what is there now</a>
    }
    @if (row().kind === 'file' && !row().unread) {
      <lx-file-preview [pointId]="pointId()" [path]="row().path" />
    }
    <h2 class="mt-3 mb-1">Versions</h2>
    @for (v of versions(); track v.moment) {
      <div class="ver">
        <button type="button" class="plain num" [title]="'Set the moment: ' + (v.moment | exact)" (click)="go.emit(v.lastMoment)">
          {{ v.moment | moment }}
        </button>
        <span class="small"
          >{{ v.kind === 'file' ? (v.size | bytes) : v.kind }} · <span [class.f]="v.suspect || v.random">{{ verdict(v) }}</span><br /><span
            class="mute"
            >{{ v.points === 1 ? 'in 1 point' : 'in ' + v.points + ' points'
            }}{{
              v.ended === 'still'
                ? ', still there'
                : v.ended === 'gone'
                  ? ', then gone'
                  : v.ended === 'unseen'
                    ? ', then not looked at'
                    : ''
            }}</span
          ></span
        >
        <button type="button" class="act sm" (click)="pick.emit(v)">Pick</button>
      </div>
    }`,
  styles: `
    :host {
      display: block;
      padding: 12px 16px;
      font-size: 13px;
      overflow: auto;
    }
    .name {
      overflow-wrap: anywhere;
    }
    .d {
      display: grid;
      grid-template-columns: 62px 1fr 1fr;
      gap: 8px;
      padding: 3px 8px;
      font: 12px/1.5 var(--mono);
      border-left: 3px solid transparent;
    }
    .d.ch {
      border-left-color: var(--ink);
      font-weight: 650;
    }
    .ver {
      display: grid;
      grid-template-columns: 104px 1fr auto;
      gap: 6px;
      padding: 5px 0;
      border-bottom: 1px solid var(--row);
      align-items: start;
    }
    .plain {
      text-align: left;
    }
  `,
})
export class ItemSide {
  private readonly api = inject(Api);
  private readonly session = inject(Session);
  readonly workloadId = input.required<number>();
  readonly pointId = input.required<string>();
  readonly moment = input.required<number>();
  readonly row = input.required<TreeRow>();
  /** Whether its kind can be compared with what is there now. */
  readonly compares = input(true);
  /** Where it stands beside the one of now; undefined where nowhere. */
  readonly beside = input<readonly (string | number)[]>();
  readonly go = output<number>();
  readonly pick = output<Version>();
  private readonly key = computed(() => ({
    pointId: this.pointId(),
    path: this.row().path,
    workload: this.workloadId(),
    compares: this.compares(),
  }));
  private readonly compared = toSignal(
    toObservable(this.key).pipe(
      switchMap((k) =>
        combineLatest([
          of(k.path),
          k.compares
            ? this.api.call('compare', { id: k.pointId, query: { path: k.path } }).pipe(outcome<Compared>())
            : of<Outcome<Compared>>({}),
        ]),
      ),
      map(([path, o]) => ({ path, ...o })),
    ),
  );
  private readonly listed = toSignal(
    toObservable(this.key).pipe(
      switchMap((k) => this.api.call('versions', { query: { workload: k.workload, path: k.path } }).pipe(outcome<{ rows: Version[] }>())),
    ),
  );
  protected readonly versions = computed(() => this.listed()?.value?.rows ?? []);
  protected readonly problem = computed(() => this.compared()?.failure?.message);

  protected readonly lines = computed((): Line[] => {
    const c = this.compared();
    const item = c?.path === this.row().path ? c.value?.rows[0] : undefined;
    const shown = this.compares() ? item : onlyThen(this.row());
    if (!shown?.then) return [];
    return linesOf(shown, (ns) => formatMoment(Number(BigInt(ns) / 1_000_000n), this.session.zone(), this.session.now()));
  });

  protected verdict(v: Version): string {
    return v.suspect
      ? 'suspect'
      : v.unread
        ? 'could not be read'
        : v.random
          ? 'looks random, nothing else against it'
          : 'nothing against it';
  }
}

const octal = (mode: number) => mode.toString(8).padStart(4, '0');

/** An item that nothing can be put beside. */
function onlyThen({ kind, size, mtimeNs, mode, uid, gid }: TreeRow): Pick<ComparedItem, 'then' | 'now' | 'sameContent'> {
  const then = { kind, size, mtimeNs, mode, uid, gid, linkTarget: null, attributes: 0 };
  return { then, now: then, sameContent: null };
}

function linesOf(item: Pick<ComparedItem, 'then' | 'now' | 'sameContent'>, time: (ns: string) => string): Line[] {
  const { then, now } = item;
  if (!then) return [];
  const line = (
    what: string,
    value: (side: NonNullable<ComparedItem['then']>) => string,
    differs = now ? value(then) !== value(now) : true,
  ): Line => ({ what, then: value(then), now: now ? value(now) : 'gone', differs });
  const lines = [
    line('kind', (s) => s.kind),
    line('size', (s) => (s.kind === 'file' ? formatBytes(s.size) : '–'), now ? then.size !== now.size : true),
    line('changed', (s) => time(s.mtimeNs), now ? then.mtimeNs !== now.mtimeNs : true),
    line('mode', (s) => octal(s.mode)),
    line('owner', (s) => `${s.uid}:${s.gid}`),
  ];
  if (then.linkTarget !== null || now?.linkTarget) lines.push(line('leads to', (s) => s.linkTarget ?? '–'));
  if (then.attributes || now?.attributes) lines.push(line('attributes', (s) => String(s.attributes)));
  if (item.sameContent !== null)
    lines.push({ what: 'content', then: 'kept', now: item.sameContent ? 'same' : 'differs', differs: !item.sameContent });
  return lines;
}
