import type { Question } from '@lithodex/contract';
import { describe, expect, it } from 'vitest';
import { mayAnswer, type Asked } from './duties';

const mover = (duties: Asked['duties'], systems: Asked['systems'] = null): Asked => ({ duties, mover: null, systems });
const pointAt = (place: object): Question =>
  ({ ask: 'openedFolder', path: '', after: '', limit: 1, point: { target: { place } } }) as unknown as Question;
const stored = pointAt({ kind: 'folder', folder: '/srv/store' });
const kept = pointAt({ kind: 'snapshot', platform: { id: 7 } });

describe('who answers about a point', () => {
  it('is whoever keeps, where it is stored', () => {
    expect(mayAnswer(mover(['keep']), stored)).toBe(true);
    expect(mayAnswer(mover(['keep'], []), stored)).toBe(true);
    expect(mayAnswer(mover(['capture']), stored)).toBe(false);
  });

  it('is who also reads that system, where a storage keeps it: what opens it goes to no other', () => {
    expect(mayAnswer(mover(['keep']), kept)).toBe(false);
    expect(mayAnswer(mover(['capture', 'keep']), kept)).toBe(true);
    expect(mayAnswer(mover(['capture', 'keep'], [7]), kept)).toBe(true);
    expect(mayAnswer(mover(['capture', 'keep'], [8]), kept)).toBe(false);
  });

  it('is who was given that system, where a question names it by what opens it', () => {
    for (const ask of ['bucketNow', 'resourcePair', 'applicationLook', 'switchVolume']) {
      const question = { ask, server: { id: 7 } } as unknown as Question;
      expect(mayAnswer(mover(['capture', 'keep'], [7]), question)).toBe(true);
      expect(mayAnswer(mover(['capture', 'keep'], [8]), question)).toBe(false);
    }
  });
});
