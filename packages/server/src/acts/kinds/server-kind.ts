import type { FoundMatter } from '@lithodex/contract';
import type { Deps } from '../deps';
import type { RestorePlanner } from '../recover/restore-planner';

/** What of a kind the server does in its own way; all else about it is data in its descriptor. */
export interface ServerKind {
  /** How points go back to where they came from. */
  readonly restores: RestorePlanner;
  /** How what lies inside items of its points goes back to where it was. */
  readonly restoresInside?: RestorePlanner;
  /** What has the place of one can be removed, and it be made anew. */
  readonly madeAnew?: boolean;
  /** What of it needs a person now. */
  readonly matters?: (deps: Deps) => Promise<FoundMatter[]>;
  /** Of kinds that are found in a system: which failures are mended at its connection, and where that is. */
  readonly connection?: {
    readonly causes: readonly string[];
    readonly link: (sourceId: number) => FoundMatter['action'];
  };
}
