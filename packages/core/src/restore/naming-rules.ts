/** What the place that something goes to lets names be. */
export interface NamingRules {
  /** Characters at most. */
  readonly most: number;
  /** Characters that no name may hold. */
  readonly forbidden: string;
  /** Names that mean something else there, in small letters, whatever ending they have. */
  readonly reserved: readonly string[];
  /** No name may end in a dot or a space. */
  readonly plainEnd: boolean;
  /** Names that differ by capitals alone are the same. */
  readonly foldsCase: boolean;
}

/** Files of a Windows system: "Naming Files, Paths, and Namespaces" of its documentation. */
export const windowsNames: NamingRules = {
  most: 255,
  forbidden: '<>:"\\|?*',
  reserved: ['con', 'prn', 'aux', 'nul', ...Array.from({ length: 10 }, (_, n) => n).flatMap((n) => [`com${n}`, `lpt${n}`])],
  plainEnd: true,
  foldsCase: true,
};

/** Why a name is not possible there, as the end of a sentence; '' where it is. Names are text. */
export function nameFault(name: string, rules: NamingRules): string {
  if (name === '') return 'is empty';
  const characters = Array.from(name);
  if (characters.length > rules.most) return `is longer than ${rules.most} characters`;
  const held = characters.find((c) => rules.forbidden.includes(c));
  if (held) return `holds ${held}`;
  if (/[\u0000-\u001f]/.test(name)) return 'holds a control character';
  if (rules.plainEnd && /[. ]$/.test(name)) return 'ends in a dot or a space';
  const stem = (name.split('.')[0] ?? '').trimEnd().toLowerCase();
  return rules.reserved.includes(stem) ? 'is a name that means something else there' : '';
}

/** Faults of the names in paths (text, parts apart by /), the first of each path; paths that come to stand on one place count for each but the first. */
export function pathFaults(paths: readonly string[], rules: NamingRules): { readonly path: string; readonly fault: string }[] {
  const places = new Set<string>();
  return paths.flatMap((path) => {
    const fault = path
      .split('/')
      .filter(Boolean)
      .map((name) => nameFault(name, rules))
      .find((found) => found !== '');
    if (fault) return [{ path, fault }];
    const place = rules.foldsCase ? path.toLowerCase() : path;
    if (places.has(place)) return [{ path, fault: 'differs from another one by capitals alone' }];
    places.add(place);
    return [];
  });
}
