interface FaultLog {
  fatal(about: { readonly err: unknown }, words: string): void;
}

/** The one place of a process where faults end up that nobody caught: they are told, and the process ends, to be started again in a state that is known. */
export function endOnFault(log: FaultLog): void {
  const end = (error: unknown) => {
    log.fatal({ err: error }, 'a fault that nobody caught: the process ends');
    process.exit(70);
  };
  process.on('uncaughtException', end);
  process.on('unhandledRejection', end);
}
