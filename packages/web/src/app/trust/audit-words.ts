import type { AuditRow } from '@lithodex/contract';

/** What somebody did, in words that go on after their name; `{}` stands for what it was done to. */
const verbs: Readonly<Record<string, string>> = {
  'access.refused': 'was refused {}',
  'code.add': 'set up codes by an authenticator',
  'code.remove': 'gave up codes by an authenticator',
  'attached.key': 'was shown the key of what {} has attached',
  'asking.agree': 'agreed to what {} asked for',
  'asking.ask': 'asked for what {} misses',
  'asking.refuse': 'said no to what {} asked for',
  'asking.send': 'sent a link to {}',
  'asking.tell': 'has {} told what came back',
  'asking.withdraw': 'took the link to {} back',
  'own.code': 'had a code sent to their mailbox',
  'own.end': 'signed out, themselves only',
  'own.refused': 'was refused to sign in for themselves',
  'own.start': 'signed in for themselves only',
  'desk.compare': 'compared a point of {} with what is there now',
  'desk.look': 'looked at the desk what {} misses',
  'item.attachment': 'saved an attachment of a message of {}',
  'item.send': 'sent an item of {} by mail',
  'installation.add': 'looks at the installation {} from here',
  'installation.change': 'changed how the installation {} is reached',
  'installation.remove': 'looks at the installation {} no more',
  'item.preview': 'looked into an item of {}',
  'download.fetch': 'fetched the download of {}',
  'download.start': 'had a download prepared, {}',
  'drill.done': 'brought {} to its end',
  'drill.plan': 'said what is looked at in drills of {}',
  'drill.settings': 'changed when drills are done by themselves',
  'drill.start': 'had restores drilled, {}',
  'firstSteps.hide': 'wants to see the first steps no more',
  'firstSteps.show': 'wants to see the first steps again',
  'inside.forget': 'had the account inside {} forgotten',
  'inside.set': 'gave {} an account inside',
  'installation.start': 'began this installation',
  'limits.change': 'changed how many tasks run at once',
  'log.download': 'saved the log of {}',
  'mail-server.change': 'changed how mail goes out',
  'matter.change': 'took up {}',
  'mover.admit': 'let {} in, which asked',
  'mover.change': 'changed {}',
  'mover.refuse': 'did not let {} in, which asked',
  'mover.forget': 'had {} forgotten',
  'join.refused': 'tried to come in as {} with a code that is not valid',
  'unit.invite': 'made a code by which a unit may report in',
  'unit.forget': 'sent {} away',
  'mover.invite': 'made a code that lets a mover in',
  'notice.add': 'wrote {}',
  'notice.change': 'changed {}',
  'notice.remove': 'removed {}',
  'notice.test': 'tried {}',
  'passkey.add': 'made a passkey',
  'passkey.remove': 'gave up a passkey',
  'password.change': 'changed their password',
  'password.reset': 'chose a new password by a link',
  'person.add': 'added {}',
  'person.bar': 'barred {}',
  'person.change': 'changed {}',
  'person.reset': 'made a link for a new password of {}',
  'point.hold': 'holds {}',
  'point.usual': 'said that {} is usual',
  'point.damage': 'said that {} shows damage',
  'workload.holdFrom': 'set the score from which points of {} are held',
  'point.release': 'let {} go',
  'scan.settings': 'changed when points are scanned',
  'scan.start': 'had points scanned, {}',
  'scanRules.add': 'added the rules {}',
  'scanRules.change': 'changed the rules {}',
  'scanRules.remove': 'removed the rules {}',
  'sensitive.show': 'read findings of sensitive data uncovered, {}',
  'policy.add': 'put {} in force, which is new',
  'policy.change': 'changed {}',
  'policy.end': 'ended {}',
  'policy.run': 'ran {}',
  'policy.start': 'lets new policies start from {}',
  'policy.trial': 'tried {} without moving anything',
  'recovery.renew': 'made new recovery codes',
  'recovery.used': 'signed in with a recovery code',
  'request.agree': 'agreed as the second person about {}',
  'request.ask': 'asked for a second person about {}',
  'request.refuse': 'refused or withdrew what was asked about {}',
  'restore.start': 'restored, {}',
  'restore.trial': 'tried a restore, {}',
  'share.add': 'keeps the share {}',
  'share.change': 'changed the share {}',
  'share.remove': 'had the share {} forgotten',
  'sequence.add': 'put restores in their order: {}',
  'sequence.change': 'changed the sequence {}',
  'sequence.remove': 'removed the sequence {}',
  'sequence.try': 'had the sequence {} tried by drills',
  'sequence.start': 'started the sequence {} as it is',
  'sequence.stop': 'stopped the sequence {}',
  'sequence.again': 'had a step of the sequence {} tried again',
  'sequence.without': 'had the sequence {} go on without a step',
  'sequence.end': 'came to the end of the sequence {}',
  'standing.add': 'has the restore {} repeated',
  'standing.change': 'changed the repeated restore {}',
  'standing.end': 'ended the repeated restore {}',
  'standing.run': 'had the repeated restore {} done at once',
  'rows.compare': 'compared rows of {} with those of now',
  'rows.read': 'looked into rows of a scratch server of {}',
  'scratch.end': 'ended the scratch server of {}',
  'running.wish': 'said what becomes of a machine that runs from the store, {}',
  'run.retry': 'tried {} again',
  'run.stop': 'stopped {}',
  'session.confirmRefused': 'did not show once more who they are',
  'session.end': 'signed out',
  'session.endOthers': 'signed out everywhere else',
  'session.refused': 'was not let in',
  'session.secondRefused': 'showed a second factor that does not fit',
  'session.start': 'signed in',
  'settings.leave': 'left the settings kept on {}',
  'settings.take': 'took over the settings kept on {}',
  'signIn.noOrganisation': 'ended signing in by the organisation',
  'signIn.organisation': 'lets people sign in by the organisation',
  'signIn.rules': 'changed what signing in takes',
  'trial.end': 'removed what was made of {} for a trial',
  'snapshot.copy': 'had a snapshot of {} copied to a target',
  'snapshot.remove': 'had a snapshot on a storage of {} let go',
  'snapshot.take': 'had the storages of {} keep their disks',
  'source.add': 'connected {}',
  'source.change': 'changed {}',
  'source.limits': 'changed how many tasks read {}',
  'source.remove': 'disconnected {}',
  'source.test': 'tried the connection to a {}',
  'table.swap': 'swapped two tables of {}',
  'target.add': 'added {}',
  'target.adopt': 'looked for points on {}',
  'target.envelope': 'took the key envelope of {}',
  'target.forget': 'had {} forgotten',
  'target.limits': 'changed the limits of {}',
  'target.newKey': 'gave {} a new key',
  'target.prices': 'changed the prices of {}',
  'target.newest': 'changed whether the newest dumps lie beside {} as files',
  'target.prune': 'had {} pruned',
  'target.pruneTrial': 'asked what pruning {} would give back',
  'target.retire': 'gave {} up',
  'target.settle': 'let what was taken over with {} be kept by the policies',
  'target.takeOver': 'took over {}',
  'target.follow': 'began to follow {}',
  'target.following': 'said how often {} is read',
  'target.own': 'took over {}, which another installation owned',
  'target.test': 'tried the place of a {}',
  'target.verify': 'had {} verified',
  'token.add': 'issued {}',
  'token.remove': 'withdrew {}',
  'token.rotate': 'issued {} anew',
  'token.systems': 'changed which systems {} is given',
  'workload.lift': 'lifted the suspicion of {}',
  'workload.protectOnce': 'had {} protected once',
  'workload.tag': 'tagged {}',
  'volume.remove': 'removed a volume of {} that it was switched from',
  'volume.switch': 'switched a volume of {}',
};

/** Words of what is in the details of an act, by the names of its fields. */
const fields: Readonly<Record<string, string>> = {
  name: '',
  role: 'as',
  folder: 'folder',
  readAs: 'read as',
  readBy: 'read by',
  location: 'at',
  reason: 'because',
  rules: '',
  count: 'items:',
  secondFor: 'a second factor for',
  idleMinutes: 'minutes until a session ends:',
  selfService: 'people help themselves:',
  words: 'saying',
  hours: 'hours:',
  run: 'run',
  drained: 'drained:',
  tasks: 'tasks at once:',
  writers: 'tasks that write at once:',
  readers: 'tasks that read at once:',
  display: 'called',
  endpoint: 'at',
  issuer: 'at',
  to: 'to',
  note: '',
  host: 'by',
  from: 'from',
  putOff: '',
  readFrom: 'read from',
};

export interface AuditSentence {
  readonly before: string;
  readonly object: string;
  readonly after: string;
  /** Where the object can be seen; null for nowhere. */
  readonly link: readonly string[] | null;
  readonly detail: string;
}

const places: Readonly<Record<string, string>> = {
  policy: '/policies',
  run: '/runs',
  workload: '/estate',
  target: '/storage',
  drill: '/trust/drills',
};

/** An act as a sentence without its subject. `names` tells the names of policies, workloads and targets by what they are called in the trail. */
export function auditSentence({ action, object, detail }: AuditRow, names: ReadonlyMap<string, string>): AuditSentence {
  const [before = '', after = ''] = (verbs[action] ?? `did ${action} to {}`).split('{}');
  const shown = (verbs[action] ?? '{}').includes('{}') ? (names.get(object) ?? object) : '';
  const [kind = '', id = ''] = object.split(' ');
  const place = places[kind];
  return { before, object: shown, after, link: place && shown && id ? [place, id] : null, detail: detailWords(detail) };
}

/** A value in words; of a list that is not of texts, how long it is. */
function wordsOf(value: unknown): string {
  if (Array.isArray(value)) return value.every((v) => typeof v === 'string') ? value.join(', ') : String(value.length);
  return typeof value === 'string' ? value : JSON.stringify(value);
}

/** The details of an act: a text as it is, the fields of an object in words. */
export function detailWords(detail: string): string {
  if (!detail.startsWith('{')) return detail;
  let parsed: Record<string, unknown>;
  try {
    parsed = JSON.parse(detail) as Record<string, unknown>;
  } catch {
    return detail;
  }
  const said = Object.entries(parsed).flatMap(([key, value]): string[] => {
    const label = fields[key];
    if (label === undefined || value === null || value === '' || (Array.isArray(value) && !value.length)) return [];
    if (typeof value === 'object' && !Array.isArray(value)) return [];
    if (key === 'putOff') return ['put off'];
    const text = wordsOf(value);
    return [label ? `${label} ${text}` : text];
  });
  return said.join(', ');
}
