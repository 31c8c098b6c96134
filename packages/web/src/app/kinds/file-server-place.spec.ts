import { TestBed } from '@angular/core/testing';
import { of } from 'rxjs';
import { describe, expect, it } from 'vitest';
import { Api } from '../data/api';
import { Picks } from '../data/picks';
import { FileServerPlace } from './file-server-place';

const system = (id: number, kind: string, shares: readonly string[]) => ({
  id,
  name: `server-${id}`,
  address: { kind },
  workloads: shares.map((name, i) => ({ id: 10 * id + i, name })),
});

async function stage(rows: readonly object[]) {
  const sent: unknown[] = [];
  TestBed.configureTestingModule({
    providers: [
      { provide: Api, useValue: { call: () => of({ rows }) } },
      { provide: Picks, useValue: { items: () => [{ workload: 'plans' }] } },
    ],
  });
  const fixture = TestBed.createComponent(FileServerPlace);
  fixture.componentRef.setInput('changed', (destination: unknown) => sent.push(destination));
  await fixture.whenStable();
  const page = fixture.nativeElement as HTMLElement;
  const write = async (label: string, text: string) => {
    const field = page.querySelector<HTMLInputElement>(`[aria-label="${label}"]`)!;
    field.value = text;
    field.dispatchEvent(new Event('input'));
    await fixture.whenStable();
  };
  return { sent, page, write };
}

describe('a share in the sentence of a restore', () => {
  it('is of the only file server there is, and where each was unless a folder is said', async () => {
    const { sent, page, write } = await stage([system(3, 'bucket', ['soundings']), system(7, 'share', ['plans', 'old'])]);
    expect(sent.at(-1)).toEqual({ to: 'fileServer', systemId: 7, share: 'plans', folder: '' });
    expect([...page.querySelectorAll('option')].map((o) => o.value)).toEqual(['plans', 'old']);
    await write('Share', ' old ');
    await write('Folder', '/brought/back/');
    expect(sent.at(-1)).toEqual({ to: 'fileServer', systemId: 7, share: 'old', folder: 'brought/back' });
    await write('Share', '');
    expect(sent.at(-1)).toBeNull();
  });

  it('waits for a choice among several', async () => {
    const { sent, page } = await stage([system(7, 'share', []), system(8, 'share', [])]);
    expect(sent.at(-1)).toBeNull();
    expect(page.textContent).toContain('choose a file server');
  });
});
