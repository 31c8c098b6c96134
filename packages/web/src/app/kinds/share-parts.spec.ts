import { TestBed } from '@angular/core/testing';
import { provideRouter } from '@angular/router';
import type { WorkloadRow } from '@lithodex/contract';
import { describe, expect, it } from 'vitest';
import { workload } from '../../test/samples';
import { shareParts } from './share-parts';
import { SharePeek } from './share-peek';

const share = (more: object = {}, gone: number | null = null): WorkloadRow => ({
  ...workload(4),
  kind: 'share',
  gone,
  facts: { kind: 'share', comment: 'drawings of the quays', trouble: '', ...more },
});

describe('a network share', () => {
  it('is told by what its owner says of it, and leads to its server', () => {
    expect(shareParts.where(share())).toBe('drawings of the quays');
    expect(shareParts.where(share({ comment: '' }))).toBe('network share');
    const [fact] = shareParts.sourceFacts(share());
    expect(fact).toMatchObject({ term: 'File server', link: { to: ['/estate/file-servers', workload(4).source.id] } });
  });

  it('can go where it was, to another share, a folder, an archive; a file by itself too', () => {
    const of = (kind: string, path: string) => shareParts.places([{ kind, path, workload: 'plans' } as never]).map((p) => p.value);
    expect(of('folder', '')).toEqual(expect.arrayContaining(['original', 'fileServer', 'folder', 'share']));
    expect(of('folder', 'a')).toContain('drive');
    expect(of('folder', 'a')).not.toContain('file');
    expect(of('file', 'a').at(-1)).toBe('file');
  });

  it('says beside it what ails it, or that it was removed', async () => {
    TestBed.configureTestingModule({ providers: [provideRouter([])] });
    const fixture = TestBed.createComponent(SharePeek);
    fixture.componentRef.setInput('workload', share({ trouble: 'The share does not let us in.' }));
    await fixture.whenStable();
    const text = () => (fixture.nativeElement as HTMLElement).textContent;
    expect(text()).toContain('The share does not let us in.');
    expect(text()).not.toContain('Removed');
    fixture.componentRef.setInput('workload', share({ comment: '' }, Date.parse('2026-11-20T10:00:00Z')));
    await fixture.whenStable();
    expect(text()).toContain('can go to another share');
    expect(text()).not.toContain('Said of it');
  });
});
