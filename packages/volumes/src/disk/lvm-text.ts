import { damaged } from '../errors';

export type LvmValue = string | number | readonly LvmValue[] | LvmSection;
export interface LvmSection {
  readonly [name: string]: LvmValue;
}

const mostDepth = 8;

/** Reads the text in which LVM2 describes a group of volumes: sections, numbers, texts and lists. Throws DISK_DAMAGED. */
export function readLvmText(text: string): LvmSection {
  const tokens = text.replace(/#[^\n]*/g, '').match(/"(?:\\.|[^"\\])*"|[{}[\],=]|[^\s{}[\],="]+/g) ?? [];
  let at = 0;
  const next = () => {
    const token = tokens[at++];
    if (token === undefined) throw damaged('description of volumes');
    return token;
  };
  const value = (token: string): LvmValue => {
    if (token === '[') {
      const list: LvmValue[] = [];
      for (let one = next(); one !== ']'; one = next()) if (one !== ',') list.push(value(one));
      return list;
    }
    if (token.startsWith('"')) return token.slice(1, -1).replace(/\\(.)/g, '$1');
    const number = Number(token);
    if (!Number.isFinite(number)) throw damaged('description of volumes');
    return number;
  };
  const section = (depth: number): LvmSection => {
    const own: Record<string, LvmValue> = Object.create(null) as Record<string, LvmValue>;
    while (at < tokens.length) {
      const name = next();
      if (name === '}') return own;
      const sign = next();
      if (sign === '=') own[name] = value(next());
      else if (sign === '{' && depth < mostDepth) own[name] = section(depth + 1);
      else throw damaged('description of volumes');
    }
    if (depth > 0) throw damaged('description of volumes');
    return own;
  };
  return section(0);
}

/** A part of a section. Throws DISK_DAMAGED where it is not there or of another kind. */
export function sectionAt(section: LvmSection, name: string): LvmSection {
  const value = section[name];
  if (typeof value !== 'object' || Array.isArray(value)) throw damaged(`${name} of a group of volumes`);
  return value as LvmSection;
}

export function numberIn(section: LvmSection, name: string): number {
  const value = section[name];
  if (typeof value !== 'number' || !Number.isSafeInteger(value) || value < 0) throw damaged(`${name} of a group of volumes`);
  return value;
}

export function textIn(section: LvmSection, name: string): string {
  const value = section[name];
  if (typeof value !== 'string') throw damaged(`${name} of a group of volumes`);
  return value;
}

export function listIn(section: LvmSection, name: string): readonly LvmValue[] {
  const value = section[name];
  if (!Array.isArray(value)) throw damaged(`${name} of a group of volumes`);
  return value as readonly LvmValue[];
}

/** The sections within a section, by name. */
export function sectionsIn(section: LvmSection): [string, LvmSection][] {
  return Object.entries(section).filter((e): e is [string, LvmSection] => typeof e[1] === 'object' && !Array.isArray(e[1]));
}
