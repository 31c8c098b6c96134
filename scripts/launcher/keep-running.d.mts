export interface Kept {
  readonly started: Promise<void>;
  readonly pid: number | undefined;
  stop(patienceMs?: number): Promise<void>;
}
export function keepRunning(
  name: string,
  args: readonly string[],
  options?: { ready?: boolean; say?: (text: string) => void; env?: NodeJS.ProcessEnv; detached?: boolean },
): Kept;
export function keepInForeground(name: string, args: readonly string[]): Promise<void>;
