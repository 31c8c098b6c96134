export interface FoundPerson {
  readonly id: string;
  readonly login: string;
  readonly name: string;
  readonly mail: string;
  readonly active: boolean;
  /** A mailbox that belongs to several. */
  readonly shared: boolean;
}
export interface FoundGroup {
  readonly id: string;
  readonly name: string;
  /** Ids of people and of groups. */
  readonly members: readonly string[];
}
export interface People {
  readonly people: readonly FoundPerson[];
  readonly groups: readonly FoundGroup[];
}
