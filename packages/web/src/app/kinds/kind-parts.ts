import type { Type } from '@angular/core';
import type { BodyInput, Point, WorkloadDetail, WorkloadRow } from '@lithodex/contract';
import type { PickedItem } from '../data/picks';
import type { SlotOption } from '../ui/slot';

export type Destination = BodyInput<'planRestore'>['destination'];
export type Rule = NonNullable<BodyInput<'planRestore'>['rule']>;

/** A component that is loaded when it is first shown. */
export type LoadsPart = () => Promise<Type<unknown>>;

/** A line about a workload: where it leads, or what one can do about it. */
export interface SourceFact {
  readonly term: string;
  readonly text: string;
  readonly link?: { readonly label: string; readonly to: readonly (string | number)[] };
  /** Gives or changes the account inside. */
  readonly inside?: string;
}

export interface Remark {
  readonly text: string;
  readonly warns: boolean;
}

/** A place that a restore can go to. */
export interface PlaceOption extends SlotOption<string> {
  /** The destination, where nothing else is to be said of it. */
  readonly destination?: Destination;
  /** What asks for the rest. Inputs: `changed`, which is called with the destination, or with null while it is not complete. */
  readonly form?: LoadsPart;
  /** More inputs of it. */
  readonly inputs?: Readonly<Record<string, unknown>>;
  /** Nothing is written: what is picked is used where it is. `verb`: what the button says; `lands`: the page that goes on with it. */
  readonly uses?: { readonly verb: string; readonly lands: string };
  /** Nothing exists there yet: what is restored gets a folder of its own. */
  readonly fresh?: boolean;
  /** What is said while the destination is not complete. */
  readonly first?: string;
  /** What asks for what is different for one item. Inputs: `item`. */
  readonly own?: LoadsPart;
}

/** The screens, sentences and words that are really those of one kind of workload. */
export interface KindParts {
  /** What one is called. */
  readonly noun: string;
  /** Where a workload is, in a few words. */
  where(w: WorkloadRow): string;
  sourceFacts(w: WorkloadRow): readonly SourceFact[];
  /** Pages of a workload that only this kind has. */
  links(w: WorkloadDetail): readonly { readonly label: string; readonly to: readonly (string | number)[] }[];
  /** The page that compares all of a point, or of a folder of it, with what is there now; none where items are compared singly. */
  readonly comparedAt?: string;
  /** The page that shows an item of a point line by line beside the one of now; undefined for items that have none. Its query gets the point and the path. */
  besideAt?(path: string, w: Pick<WorkloadRow, 'id'>): readonly (string | number)[] | undefined;
  /** Whether a folder of a point may hold the mail stores of a server. */
  mayHoldMail?(folder: string): boolean;
  /** What a point says of itself, under the beds. */
  pointRemarks(point: Point, w: WorkloadRow): readonly Remark[];
  /** What is seen of a workload in the estate. Inputs: `workload`. */
  readonly peek: LoadsPart;
  /** Where picked items can go, the original place first. */
  places(picks: readonly PickedItem[]): readonly PlaceOption[];
  /** What may become of what exists there; none where that is not asked. */
  rules(picks: readonly PickedItem[]): readonly Rule[];
  /** Whether what comes back can be started. */
  starts(picks: readonly PickedItem[]): boolean;
  /** One of its items is text that people can edit and give back. */
  readonly edits: boolean;
}

export const everyRule: readonly Rule[] = ['leave', 'replace', 'replaceIfOlder', 'beside'];
export const says = (text: string, warns = false): Remark => ({ text, warns });
export const download = (format: Extract<Destination, { to: 'download' }>['format'], label: string): PlaceOption => ({
  value: format,
  label: `me, as ${label}`,
  destination: { to: 'download', format },
});
