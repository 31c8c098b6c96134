/** What somebody would want to bring back singly, and what it is that keeps it. */
export type HeldInside = 'database' | 'mail store';

const known: readonly (readonly [RegExp, HeldInside])[] = [
  [/\b(mariadbd?|mysqld?|postgres(ql)?|redis(-server)?|firebird)\b/i, 'database'],
  [/\b(dovecot|cyrus|courier)\b/i, 'mail store'],
];

/** What programs that run inside a machine keep, by their names as a system lists them; each kind once. */
export function heldBy(services: readonly string[]): { readonly held: HeldInside; readonly by: string }[] {
  return known.flatMap(([names, held]) => {
    const by = services.find((s) => names.test(s));
    return by ? [{ held, by }] : [];
  });
}

/** The family of database servers of which a program is, where it is one that can be connected. */
export function familyOf(by: string): 'mariadb' | 'postgresql' | undefined {
  if (/^(mariadb|mysql)/i.test(by)) return 'mariadb';
  return /^postgres/i.test(by) ? 'postgresql' : undefined;
}
