import { policyBody, target } from './samples';
import { day, now, open, page, type Answers, type Stage } from './stage';

export const consequences = {
  matches: [
    { id: 1, name: 'quay-1', why: 'chosen by name', alsoBy: [], fresh: false },
    { id: 2, name: 'quay-2', why: 'tagged room: north', alsoBy: ['Hourly'], fresh: true },
  ],
  gone: [{ id: 3, name: 'quay-3' }],
  zone: 'UTC',
  nextRuns: [now + day],
  settled: { points: 14, furthestDays: 14, ages: [0.5, 1.5], arithmetic: '14 days × 1 run a day' },
  settledNow: null,
  deletes: { points: 0, oldest: null, newest: null, workloads: [] },
  fit: { draft: { ends: now + day, missed: 0 }, inForce: { ends: now, missed: 0 }, tasks: 3 },
  leftOut: [],
  secondPerson: '',
  measured: { runs: 0, sizeBytes: 0, newBytesPerRun: null, targetFree: null, nightMs: null },
  warnings: [],
  spreadGaps: [],
};
export const policy = {
  id: 5,
  body: policyBody(),
  matches: [{ id: 1, name: 'quay-1' }],
  nextRun: now + day,
  lastRun: null,
  points: 31,
  newestRule: 1,
};
/** A page of policies with answers to all it asks. */
export const stage = (url: string, answers: Answers = {}, role: 'administrator' | 'operator' | 'auditor' = 'administrator') =>
  open(url, {
    role,
    answers: {
      getPolicy: policy,
      policyVersions: { rows: [{ no: 1, at: now - day, by: 'eva.vind', body: policyBody() }] },
      listTargets: page([target(1), target(2)]),
      estateValues: {
        workloads: [
          { id: 1, name: 'quay-1', kind: 'files', coverage: 'protected' },
          { id: 2, name: 'quay-2', kind: 'files', coverage: 'none' },
        ],
        tags: [{ name: 'room: north', count: 3 }],
        fields: { tag: ['room: north'], name: ['quay-1', 'quay-2'], source: ['quay-1', 'quay-2'], host: ['mole-1'] },
      },
      consequences,
      policyMeasures: { now, schedules: [], targets: [] },
      policyStart: { policyId: null, terms: null },
      listPolicies: page([policy, { ...policy, id: 9, body: policyBody({ name: 'Berths, hourly' }) }]),
      ...answers,
    },
  });
/** What the page last asked the consequences of. */
export const draft = (s: Stage) => (s.api.last('consequences')?.body as { body: ReturnType<typeof policyBody> }).body;
/** The first rule of the draft with all else that it says. */
export const said = (s: Stage) => ({ ...draft(s), ...draft(s).rules[0]! });
