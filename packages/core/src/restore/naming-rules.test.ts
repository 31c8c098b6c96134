import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { nameFault, pathFaults, windowsNames, type NamingRules } from './naming-rules';

const machines: NamingRules = { most: 12, forbidden: '/\\%', reserved: [], plainEnd: false, foldsCase: false };

describe('what a name may be where it goes', () => {
  it.each([
    ['roster.csv', ''],
    ['Größe 漢字 🌊', ''],
    ['.profile', ''],
    ['', 'is empty'],
    ['a:b', 'holds :'],
    ['what?', 'holds ?'],
    ['back\\slash', 'holds \\'],
    ['bell\u0007', 'holds a control character'],
    ['draft.', 'ends in a dot or a space'],
    ['draft ', 'ends in a dot or a space'],
    ['CON', 'is a name that means something else there'],
    ['nul.tar.gz', 'is a name that means something else there'],
    ['com7.log', 'is a name that means something else there'],
    ['comma', ''],
    ['x'.repeat(256), 'is longer than 255 characters'],
    ['🌊'.repeat(255), ''],
  ])('%j %s', (name, fault) => {
    expect(nameFault(name, windowsNames)).toBe(fault);
  });

  it('is told by the rules of the place alone', () => {
    expect(nameFault('con', machines)).toBe('');
    expect(nameFault('gate-control-again', machines)).toBe('is longer than 12 characters');
    expect(nameFault('50%', machines)).toBe('holds %');
  });

  it('is said once for a path, and of paths that would meet', () => {
    expect(pathFaults(['/logs/Gate', '/logs/gate', '/a:b/c?d', '/fine'], windowsNames)).toEqual([
      { path: '/logs/gate', fault: 'differs from another one by capitals alone' },
      { path: '/a:b/c?d', fault: 'holds :' },
    ]);
    expect(pathFaults(['/logs/Gate', '/logs/gate'], machines)).toEqual([]);
  });

  it('finds no fault in names of plain letters', () => {
    fc.assert(fc.property(fc.stringMatching(/^[a-z]{5,40}[0-9]?$/), (name) => nameFault(name, windowsNames) === ''));
  });
});
