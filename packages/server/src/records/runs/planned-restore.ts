import type { AttachWork, DownloadWork, RestoreWork, RunMachineWork } from '@lithodex/contract';
import type { To } from '@lithodex/kinds';

/** An item that is wanted; where its point is is looked up when the task is claimed. */
export interface PlannedPick {
  readonly pointId: string;
  readonly path: string;
  readonly to: string;
}

interface Prefers {
  readonly readFrom: string | null;
}

type Planned<T> = T extends { server: unknown }
  ? Omit<T, 'server'> & { readonly sourceId: number }
  : T extends { platform: unknown }
    ? Omit<T, 'platform'> & { readonly platformId: number }
    : T extends { share?: infer S }
      ? Omit<T, 'share'> & { readonly share?: (Omit<NonNullable<S>, 'ref'> & { readonly shareId: number }) | undefined }
      : T;

/** Where a restore writes, without what opens it: a system is named by the source it is kept as. */
export type PlannedTo = Planned<To>;

/** What a task keeps; where its points are is looked up when it is claimed, so that no key of a target lies in the queue. */
export type DownloadPlan = Omit<DownloadWork, 'picks'> & Prefers & { readonly picks: readonly PlannedPick[] };
export type AttachPlan = Omit<AttachWork, 'point' | 'path' | 'as'> &
  Partial<Pick<AttachWork, 'as'>> &
  Prefers & { readonly pick: PlannedPick };
/** `heldBy`: the mover that keeps what it writes, once one has it. */
export type RunMachinePlan = Omit<RunMachineWork, 'point' | 'platform'> &
  Prefers & { readonly pick: PlannedPick; readonly platformId: number; readonly heldBy?: string };
export type RestorePlan = Omit<RestoreWork, 'picks' | 'to' | 'edited'> &
  Prefers & {
    readonly picks: readonly (PlannedPick & { readonly base: string })[];
    readonly to: PlannedTo;
    /** A text takes the place of what is stored; it is kept apart, sealed. */ readonly edited?: boolean;
  };
