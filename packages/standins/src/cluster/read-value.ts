/** What is inside a value, of whatever shape; undefined where there is nothing. */
export function at(value: unknown, ...path: readonly (string | number)[]): unknown {
  let found: unknown = value;
  for (const part of path) {
    if (typeof found !== 'object' || found === null) return undefined;
    found = (found as Record<string | number, unknown>)[part];
  }
  return found;
}

export const text = (value: unknown, ...path: readonly (string | number)[]): string => {
  const found = at(value, ...path);
  return typeof found === 'string' ? found : '';
};

export const number = (value: unknown, ...path: readonly (string | number)[]): number => {
  const found = at(value, ...path);
  return typeof found === 'number' ? found : 0;
};

export const list = (value: unknown, ...path: readonly (string | number)[]): readonly unknown[] => {
  const found = at(value, ...path);
  return Array.isArray(found) ? (found as unknown[]) : [];
};

export const words = (value: unknown, ...path: readonly (string | number)[]): Readonly<Record<string, string>> => {
  const found = at(value, ...path);
  return typeof found === 'object' && found !== null ? (found as Record<string, string>) : {};
};

/** Bytes of a quantity like `2Gi`. */
export function bytesOf(quantity: string): number {
  const [, digits = '0', unit = ''] = /^(\d+)(Ki|Mi|Gi|Ti)?$/.exec(quantity) ?? [];
  return Number(digits) * { '': 1, Ki: 2 ** 10, Mi: 2 ** 20, Gi: 2 ** 30, Ti: 2 ** 40 }[unit]!;
}

/** Whether labels are as a selector says: `a=b,c!=d,e,!f`. */
export function selects(selector: string, labels: Readonly<Record<string, string>>): boolean {
  return selector
    .split(',')
    .filter(Boolean)
    .every((term) => {
      const [, name = '', operator = '', value = ''] = /^(!?[^=!]+)(==|=|!=)?(.*)$/.exec(term.trim()) ?? [];
      if (operator === '!=') return labels[name] !== value;
      if (operator !== '') return labels[name] === value;
      return name.startsWith('!') ? !(name.slice(1) in labels) : name in labels;
    });
}
