import type { ClaimedTask, Finish, MachineWish, MoverLine, Progress } from '@lithodex/contract';
import type { HostLimits } from '@lithodex/connectors';
import type { ServerApi } from '../api';
import type { Expected } from '../receiver';
import type { ScannerCommand } from '../scan/command-scanner';
import type { Stores } from './stores';

/** The address of this mover for others, and who is expected there. */
export interface Receiving {
  readonly address: string;
  readonly expect: (expected: Expected) => void;
  readonly forget: (id: string) => void;
}

/** What a task works with in its thread. */
export interface TaskContext {
  readonly task: ClaimedTask;
  readonly api: ServerApi;
  readonly stores: Stores;
  readonly limits: HostLimits;
  /** Folder of the scripts that policies may name; none when it was not given. */
  readonly scripts: string | undefined;
  /** Programs of the host that scan files, by name. */
  readonly scanners: Readonly<Record<string, ScannerCommand>>;
  /** Address of this host at which what is attached can be reached. */
  readonly attachAt: string;
  /** Folder for what machines write that run from the store. */
  readonly overlays: string;
  /** What is wanted now of a machine that runs from the store; null for anything else. */
  readonly wish: () => MachineWish | null;
  /** Where movers that only read can come; undefined where none can. */
  readonly receive: Receiving | undefined;
  readonly log: (line: MoverLine) => void;
  /** Rate and time left are filled in by the main thread. */
  readonly progress: (progress: Omit<Progress, 'rate' | 'leftMs'>) => void;
  readonly stopped: () => boolean;
  /** Starts a phase; the time of each is reported. */
  readonly phase: (name: string) => void;
}

export interface TaskResult {
  readonly counts: Finish['counts'];
  /** Bytes moved by the real work. */
  readonly bytes: number;
  /** What the platform calls the machines that were made. */
  readonly made?: readonly string[];
}

export const noCounts: Finish['counts'] = { items: 0, files: 0, bytes: 0, read: 0, stored: 0, warnings: 0, failed: 0, missing: 0 };
