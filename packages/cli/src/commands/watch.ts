import type { Command } from 'commander';
import { atOf } from '../moments';
import { countOf, formatBytes } from '@lithodex/core';
import { tell } from '../io';
import { harmless, pairs } from '../table';
import type { Adds } from './common';

/** The morning, and what is running at the other end. */
export const addWatch: Adds = (program, opens) => {
  program
    .command('watch')
    .description('the night, and what needs a person; the exit status is 1 where something is at fault')
    .action(async (_o, command: Command) =>
      opens(command, async (io) => {
        const w = await io.server.call('watch');
        tell(io, w, () => {
          const parts = w.lead.parts.map((p) => p.text).join(', ');
          const lead = w.lead.all
            ? `Last night ${w.lead.protected} of ${countOf(w.lead.all, 'workload')} ${w.lead.all === 1 ? 'was' : 'were'} protected.${parts ? ` ${parts}.` : ''}`
            : 'Nothing was due last night.';
          const facts = `Newest points hold ${formatBytes(w.facts.newestBytes)}, targets store ${formatBytes(w.facts.storedBytes)}.`;
          const matters = w.matters
            .map((m) => `${m.level.padEnd(9)}${harmless(m.title)} (since ${atOf(m.since, io.zone)})\n         ${harmless(m.text)}`)
            .join('\n');
          return `${lead}\n${facts}\n\n${matters || 'Nothing needs a person.'}`;
        });
        if (w.matters.some((m) => m.level === 'fault')) process.exitCode = 1;
      }),
    );

  program
    .command('about')
    .description('what is running at the other end')
    .action(async (_o, command: Command) =>
      opens(command, async (io) => {
        const a = await io.server.call('about');
        tell(io, a, () =>
          pairs([
            ['Lithodex', a.version],
            ['Tables', a.schema],
            ['Database', a.database],
            ['Node.js', a.node],
            ['System', a.system],
            ['Zone', a.zone],
            ['Movers', a.movers.map((m) => (m.current ? m.name : `${m.name} (of another version)`)).join(', ') || 'none answers'],
          ]),
        );
      }),
    );
};
