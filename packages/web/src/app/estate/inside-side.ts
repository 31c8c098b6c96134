import { ChangeDetectionStrategy, Component, input } from '@angular/core';
import type { TreeRow } from '@lithodex/contract';
import { formatPipes } from '../ui/format-pipes';
import { FilePreviewPart } from './file-preview';

/** One item inside a disk: what is known of it, and the front of it where it is a file. */
@Component({
  selector: 'lx-inside-side',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [FilePreviewPart, ...formatPipes],
  template: `<b class="name">{{ row().name }}</b>
    <div class="mute small">inside the disk, {{ moment() | moment }}</div>
    <dl class="small">
      <dt>Kind</dt>
      <dd>{{ row().kind }}</dd>
      @if (row().kind === 'file') {
        <dt>Size</dt>
        <dd class="num">{{ row().size | bytes }}</dd>
      }
      @if (row().mtimeNs !== '0') {
        <dt>Changed</dt>
        <dd>{{ row().mtimeNs | mtime }}</dd>
      }
      <dt>Owner</dt>
      <dd class="num">{{ row().uid }}:{{ row().gid }}, {{ row().mode | octal }}</dd>
      @if (row().about) {
        <dt>Note</dt>
        <dd [class.w]="row().unread">{{ row().about }}</dd>
      }
    </dl>
    @if (row().kind === 'file' && !row().unread) {
      <lx-file-preview [pointId]="pointId()" [path]="row().path" />
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
    dl {
      display: grid;
      grid-template-columns: 70px minmax(0, 1fr);
      gap: 3px 10px;
      margin: 10px 0 0;
    }
    dt {
      font-weight: 400;
      color: var(--ink-2);
    }
    dd {
      margin: 0;
      overflow-wrap: anywhere;
    }
  `,
})
export class InsideSide {
  readonly pointId = input.required<string>();
  readonly moment = input.required<number>();
  readonly row = input.required<TreeRow>();
}
