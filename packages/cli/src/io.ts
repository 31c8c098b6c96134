import type { Server } from './server';

/** What a command works with. */
export interface Io {
  readonly server: Server;
  /** Answers as JSON instead of words. */
  readonly json: boolean;
  /** Zone of the installation, in which times are told. */
  readonly zone: string;
  /** Somebody sits there who can be asked. */
  readonly interactive: boolean;
  out(text: string): void;
  /** What is told beside the answer. */
  note(text: string): void;
}

/** Tells an answer: as it came, or in words. */
export function tell(io: Pick<Io, 'json' | 'out'>, answer: unknown, words: () => string): void {
  const text = io.json ? JSON.stringify(answer, null, 2) : words();
  if (text !== '') io.out(text);
}
