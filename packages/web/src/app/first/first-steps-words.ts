import type { FirstStep } from '@lithodex/contract';

interface Words {
  readonly title: string;
  readonly why: string;
  readonly act: string;
  readonly link: string;
}

/** The first steps in words, and where each is taken. */
export const stepWords: Record<FirstStep['name'], Words> = {
  second: {
    title: 'A second factor for yourself',
    why: 'Who has your password alone then gets no further.',
    act: 'How you sign in',
    link: '/account',
  },
  target: {
    title: 'A target, where points are kept',
    why: 'A disk folder, a bucket or a set of cartridges. What goes there is encrypted before it leaves this host.',
    act: 'Add a target',
    link: '/storage',
  },
  envelope: {
    title: 'Its key envelope, kept outside',
    why: 'Were this machine lost, the envelope and its passphrase are what opens the target. Keep it on paper or on a stick, not on the target.',
    act: 'Fetch the key envelope',
    link: '/storage',
  },
  source: {
    title: 'Something to protect',
    why: 'Folders of this host or of another one with a mover, a platform with machines, a database server, an office tenant, buckets, network shares, a cluster.',
    act: 'Connect it',
    link: '/estate',
  },
  policy: {
    title: 'A policy',
    why: 'What is protected, when, to which target, and for how long: in sentences, with what follows from them beside.',
    act: 'Write a policy',
    link: '/policies/new',
  },
  point: {
    title: 'The first point',
    why: 'Run the policy now, rather than waiting for the night, and see it end.',
    act: 'See the runs',
    link: '/runs',
  },
  restore: {
    title: 'A restore, tried',
    why: 'A backup from which nothing was ever brought back is a hope. Bring one file back beside the original.',
    act: 'Recover something',
    link: '/recover',
  },
};
