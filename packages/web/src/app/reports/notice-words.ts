import { reportTitles, type NoticeAbout, type NoticeWay } from '@lithodex/contract';

const outcomes = { any: 'every run', well: 'every run that ends well', trouble: 'every run that does not end well' } as const;

/** What a notice tells of, as part of a sentence; `policies` are the names of policies by id. */
export function aboutWords(about: NoticeAbout, policies: ReadonlyMap<number, string>): string {
  switch (about.what) {
    case 'matters':
      return about.level === 'fault' ? 'every new fault' : 'every new fault or warning';
    case 'runs':
      return `${outcomes[about.outcome]} of ${about.policyId === null ? 'any policy' : (policies.get(about.policyId) ?? 'a policy that ended')}`;
    case 'digest':
      return `the night and what needs a person, every day at ${about.at}`;
    case 'report':
      return `“${reportTitles[about.report]}”, ${about.every === 'week' ? 'every Monday' : 'on the first of the month'} at ${about.at}`;
  }
}

/** How it goes out. */
export const wayWords = (way: NoticeWay): string => (way.by === 'mail' ? `by mail to ${way.to.join(', ')}` : `by a call to ${way.url}`);
