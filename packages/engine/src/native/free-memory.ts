import koffi from 'koffi';

const trim = koffi.load('libc.so.6').func('int malloc_trim(size_t)') as (kept: number) => number;

/** Gives back to the system what the C library keeps of memory that is free, as that of threads that have ended. */
export function giveBackFreeMemory(): void {
  trim(0);
}
