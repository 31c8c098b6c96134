import type { Command } from 'commander';
import type { Io } from '../io';

/** Opens what a command works with; closed when it has ended. */
export type Opens = <T>(command: Command, act: (io: Io) => Promise<T>) => Promise<T>;

/** Adds commands to a program. `opens`: the server that is meant; `ended`: exit status of the process. */
export type Adds = (program: Command, opens: Opens, ended: (status: number) => void) => void;

/** A list that an option was given several times or with commas. */
export const listed = (value: string, before: string[] = []): string[] => [...before, ...value.split(',').filter(Boolean)];
