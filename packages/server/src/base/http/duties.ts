import { moverDuties, tokenDuties, typesThat, type Question, type WorkType } from '@lithodex/contract';

/**
 * What the token of a mover entitles it to. Capture: to touch sources. Keep: to open targets, with what opens them. Prune: to take away what stands there. A machine that is
 * only protected needs no more than the first.
 */
export const duties = moverDuties;
export type Duty = (typeof tokenDuties)[number];

/** What each question takes. */
const ofQuestion: Record<Question['ask'], readonly Duty[]> = {
  probe: ['capture'],
  discover: ['capture'],
  read: ['capture'],
  rebuild: ['rebuild'],
  systemTest: ['capture'],
  compareRows: ['capture'],
  swapTables: ['capture'],
  inside: ['capture'],
  rowsInside: ['capture'],
  compareInside: ['capture'],
  endScratch: ['capture'],
  systemFinds: ['capture'],
  memberNow: ['capture'],
  bucketNow: ['capture'],
  shareNow: ['capture'],
  applicationLook: ['capture', 'keep'],
  tryRules: ['keep'],
  sensitiveIn: ['keep'],
  resourcePair: ['capture', 'keep'],
  switchVolume: ['capture'],
  removeVolume: ['capture'],
  itemChanges: ['capture', 'keep'],
  commits: ['keep'],
  platformTest: ['capture'],
  shareTest: ['capture'],
  platformInventory: ['capture'],
  takeSnapshots: ['capture'],
  removeSnapshot: ['capture'],
  removeMade: ['capture', 'keep'],
  insideTest: ['capture'],
  insideFiles: ['capture'],
  look: ['capture'],
  compare: ['capture', 'keep'],
  attached: ['keep'],
  front: ['keep'],
  documentText: ['keep'],
  itemView: ['keep'],
  itemAttachment: ['keep'],
  openedFolder: ['keep'],
  openedItems: ['keep'],
  mailStores: ['keep'],
  targetTest: ['keep'],
  targetCreate: ['keep'],
  targetTakeOver: ['keep'],
  targetOwn: ['keep'],
  targetNewKey: ['keep'],
  targetRoom: ['keep'],
  keepSettings: ['keep'],
  keptSettings: ['keep'],
  cartridges: ['keep'],
  cartridgesNeeded: ['keep'],
  envelope: ['keep'],
};

const covers = (held: readonly Duty[], needed: readonly Duty[]) => needed.every((duty) => held.includes(duty));

/** The types of task a mover with these duties may be given. */
export function workFor(held: readonly Duty[]): WorkType[] {
  return typesThat((type) => covers(held, type.duties));
}

/** What a mover is entitled to. */
export interface Asked {
  readonly duties: readonly Duty[];
  /** The only mover that may use its token; null: any. */
  readonly mover: string | null;
  /** Sources whose credentials it is given; null: all. */
  readonly systems: readonly number[] | null;
}

/** Where the point of a question lies that a system keeps, and no target of ours. */
function keptBySystem(question: Question) {
  const place = 'point' in question ? question.point.target.place : undefined;
  return place?.kind === 'snapshot' ? place : undefined;
}

/** The system that a question carries what opens it: null while it is not kept yet, undefined for none. */
function systemOf(question: Question): number | null | undefined {
  const kept = keptBySystem(question);
  if (kept) return kept.platform.id;
  if ('platform' in question) return question.platform.id;
  if ('server' in question) return question.server.id;
  return 'from' in question && 'server' in question.from ? question.from.server.id : undefined;
}

/** Whether a question is covered: by the duties, and by the systems where it carries what opens one. */
export function mayAnswer(asked: Asked, question: Question): boolean {
  const { duties: held, systems } = asked;
  if (!covers(held, ofQuestion[question.ask]) || (keptBySystem(question) && !held.includes('capture'))) return false;
  const opens = systemOf(question);
  return systems === null || opens === undefined || (opens !== null && systems.includes(opens));
}

/** Whether a mover may answer about a source that it was named for, whatever other systems it is given: a name alone is no proof where the token only captures. */
export function mayAnswerAs(asked: Asked, name: string, question: Question): boolean {
  if (asked.mover !== name) return mayAnswer(asked, question) && asked.duties.includes('keep');
  return covers(asked.duties, ofQuestion[question.ask]);
}

/** Whether it is a machine that was started from a recovery medium, and no mover. */
export const isUnit = ({ duties: held }: Pick<Asked, 'duties'>): boolean => held.length === 1 && held[0] === 'rebuild';

/** Whether this is a mover that reads the sources it was named for and keeps nothing: what others can read it is not asked about. */
export function readsOnly({ mover, duties: held }: Asked, name: string): boolean {
  return mover === name && held.includes('capture') && !held.includes('keep');
}
