/** What an account of a cluster may do; '*' for everything. */
export interface ClusterRule {
  readonly verbs: readonly string[];
  readonly resources: readonly string[];
  /** Those it holds in; none for all, and for what is in none. */
  readonly namespaces?: readonly string[];
}

export interface ClusterAccount {
  readonly token: string;
  readonly rules: readonly ClusterRule[];
}

export const everythingAllowed: readonly ClusterRule[] = [{ verbs: ['*'], resources: ['*'] }];

/** `resource` as rules name it: `pods`, `pods/exec`. */
export function mayDo(rules: readonly ClusterRule[], verb: string, resource: string, namespace: string): boolean {
  const has = (words: readonly string[], word: string) => words.includes('*') || words.includes(word);
  return rules.some((r) => has(r.verbs, verb) && has(r.resources, resource) && (!r.namespaces || r.namespaces.includes(namespace)));
}
