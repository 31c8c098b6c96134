import { formatBytes, formatDuration, formatList } from '../text/format';
import type { RebuildCheck } from './check-layout';
import { leastMemory } from './replacement';
import type { SystemFacts } from './system-facts';

const mostOff = 300_000;

/** A machine that takes the place of a server, beside its disks. */
export interface MachineFacts {
  readonly firmware: 'uefi' | 'bios';
  readonly architecture: string;
  readonly memory: number;
  readonly cards: readonly { readonly name: string; readonly driver: string }[];
  readonly controllers: readonly { readonly name: string; readonly driver: string }[];
  /** Its clock, ms, when it was last heard. */
  readonly clock: number;
}

/** What stands against a machine, or has to be wanted, but for its disks. `heard`: when it was last heard, by our clock, ms. */
export function checkMachine(
  system: Pick<SystemFacts, 'architecture' | 'memory' | 'cards'>,
  machine: MachineFacts,
  heard: number,
): RebuildCheck[] {
  const found: RebuildCheck[] = [];
  const stop = (code: RebuildCheck['code'], text: string) => found.push({ code, level: 'stop', text });
  const agree = (code: RebuildCheck['code'], text: string) => found.push({ code, level: 'agree', text });
  if (system.architecture && machine.architecture !== system.architecture)
    stop(
      'OTHER_PROCESSOR',
      `The server is made for ${system.architecture}; this machine is ${machine.architecture} and would not start it.`,
    );
  if (machine.firmware === 'bios') stop('BIOS', 'This machine starts by BIOS; a server can be made anew for UEFI only.');
  if (machine.memory < leastMemory)
    stop('MEMORY_SMALL', `${formatBytes(machine.memory)} of memory; ${formatBytes(leastMemory)} are needed to make it anew.`);
  else if (machine.memory < system.memory)
    agree(
      'MEMORY_SMALL',
      `${formatBytes(machine.memory)} of memory instead of ${formatBytes(system.memory)}: what runs on it may not find enough.`,
    );
  const undriven = [...machine.cards, ...machine.controllers].filter((c) => c.driver === '').map((c) => c.name);
  if (undriven.length) agree('NO_DRIVER', `${formatList(undriven)} ${undriven.length === 1 ? 'has' : 'have'} no driver here.`);
  if (machine.cards.length < system.cards.length)
    agree(
      'FEWER_CARDS',
      `${machine.cards.length} of ${system.cards.length} network cards are seen: networks of the others stay without one.`,
    );
  const off = Math.abs(machine.clock - heard);
  if (off > mostOff) agree('CLOCK_WRONG', `Its clock is off by ${formatDuration(off)}: what it writes gets wrong times. Set it first.`);
  return found;
}
