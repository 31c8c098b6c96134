import { describe, expect, it } from 'vitest';
import { composeDigest, composeMatter, composeReport, composeRun, composeTrial } from './compose';

const at = Date.UTC(2027, 2, 1, 5);
const telling = { zone: 'Europe/Oslo', links: 'https://backup.kelmar.example/' };
const matter = {
  id: 'failed-NO_ROOM',
  level: 'fault' as const,
  title: '3 workloads\nwere not protected',
  text: 'The target is full.',
  since: at,
  action: { label: 'See them', link: '/runs', query: { states: 'failed' } },
  second: null,
};

describe('messages', () => {
  it('tell one cause, with the way to it, on a subject of one line', () => {
    const draft = composeMatter(matter, telling);
    expect(draft.subject).toBe('3 workloads were not protected');
    expect(draft.body).toContain('Since Mon 1 Mar 06:00, Europe/Oslo.');
    expect(draft.body).toContain('See them: https://backup.kelmar.example/runs?states=failed');
    expect(composeMatter(matter, { ...telling, links: '' }).body).not.toContain('See them');
  });

  it('tell of a run what did not go well, and no more than a person reads', () => {
    const remarks = Array.from({ length: 30 }, (_, i) => ({
      workload: `quay-${i}`,
      state: 'failed' as const,
      cause: 'No room.',
      remedy: 'Make some.',
    }));
    const run = { id: 7, name: 'Server room', state: 'partsMissing' as const, startedAt: at - 90_000, endedAt: at, workloads: 40, remarks };
    const { subject, body } = composeRun(run, telling);
    expect(subject).toBe('Server room: parts missing');
    expect(body).toContain('Run 7 over 40 workloads ended Mon 1 Mar 06:00, Europe/Oslo in 1 min 30 s: parts missing.');
    expect(body).toContain('quay-24: failed. No room. Make some.\nand 5 more');
  });

  it('tell a morning', () => {
    const lead = { protected: 9, all: 12, parts: [{ tone: 'fault' as const, text: 'Two failed' }] };
    const audit = { rows: 12_000, hash: 'a1b2' };
    const draft = composeDigest(
      { at, lead, audit, matters: [matter], coming: [{ at: at + 86_400_000, text: 'quay-disk is full' }] },
      telling,
    );
    expect(draft.subject).toBe('Mon 1 Mar: 9 of 12 protected, 1 matter');
    expect(draft.body).toContain('Last night 9 of 12 workloads were protected. Two failed.');
    expect(draft.body).toContain('- Tue 2 Mar 06:00: quay-disk is full');
    expect(draft.body).toContain('Audit trail: 12\u202f000 rows, the last one with the sum a1b2.');
    const quiet = composeDigest({ at, audit, lead: { protected: 0, all: 0, parts: [] }, matters: [], coming: [] }, telling);
    expect(quiet.body).toContain('Nothing was due last night.\n\nNothing needs a person.');
  });

  it('carry reports as a file', () => {
    const report = {
      name: 'restores' as const,
      from: at - 7 * 86_400_000,
      to: at,
      says: '2 restores by one person.',
      columns: [],
      rows: [],
    };
    const draft = composeReport(report, 'a,b\r\n', telling);
    expect(draft).toMatchObject({
      subject: 'Restores, by whom and why, Mon 22 Feb to Mon 1 Mar',
      attachment: { name: 'restores-2027-03-01.csv', text: 'a,b\r\n' },
    });
  });

  it('say of a trial that it is one', () => {
    expect(composeTrial('Ops').subject).toBe('Trial of “Ops”');
  });
});
