import type { Content, Store, TreeEntry } from '@lithodex/engine';
import { itemNameOf, joinPath, objectNameOf } from '@lithodex/core';

/** Folder that holds the log: a folder a stretch, in it one a file of the server, in it pieces by where they begin. */
export const logFolder = 'log';
const ending = '.log';
const digits = 12;
/** What follows a smaller piece is added to it, so that a quiet server does not make thousands of them; bytes. */
const smallPiece = 128 << 10;
/** Most chunks of a piece that grows: fewer than an entry names by itself. */
const mostChunks = 128;

/** A piece of the log that is stored. */
export interface Piece {
  readonly stretch: number;
  /** Name of the file on the server. */
  readonly file: string;
  /** Where its first event stands there, bytes. */
  readonly from: number;
  readonly entry: TreeEntry;
}

export const stretchName = (stretch: number): string => String(stretch).padStart(4, '0');
export const pieceName = (from: number): string => `${String(from).padStart(digits, '0')}${ending}`;
export const pieceFolder = (stretch: number, file: string): string => joinPath(stretchName(stretch), itemNameOf(file));

/** Orders files of a server by their numbers. */
function byNumber(a: string, b: string): number {
  const number = (file: string) => Number(/\d+$/.exec(file)?.[0] ?? 0);
  return number(a) - number(b);
}

/** The pieces of a point of a log, in order. */
export async function piecesOf(store: Pick<Store, 'trees'>, top: TreeEntry): Promise<Piece[]> {
  const below = async (entry: TreeEntry | undefined) => (entry?.folder ? store.trees.folder(entry.folder.node) : []);
  const log = (await below(top)).find((e) => e.name === logFolder);
  const found: Piece[] = [];
  for (const stretch of await below(log)) {
    const files: Piece[] = [];
    for (const file of await below(stretch))
      for (const entry of await below(file))
        files.push({ stretch: Number(stretch.name), file: objectNameOf(file.name), from: Number(entry.name.slice(0, digits)), entry });
    found.push(...files.sort((a, b) => byNumber(a.file, b.file) || a.from - b.from));
  }
  return found.sort((a, b) => a.stretch - b.stretch);
}

/** The piece with its chunks, where what follows is added to it. */
export function growing(piece: Piece): (Piece & { readonly content: Content }) | undefined {
  const { size, content } = piece.entry;
  const few = content && 'names' in content && content.lengths.length < mostChunks;
  return few && size < smallPiece ? { ...piece, content } : undefined;
}
