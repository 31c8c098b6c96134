import type { Command } from 'commander';

interface Node {
  readonly path: string;
  readonly words: readonly string[];
}

/** Every command with what may follow it. */
function nodesOf(command: Command, path = ''): Node[] {
  const commands = command.commands.filter((c) => !['completion'].includes(c.name()));
  const words = [...commands.map((c) => c.name()), ...command.options.map((o) => o.long ?? '').filter(Boolean), '--help'];
  return [{ path, words }, ...commands.flatMap((c) => nodesOf(c, `${path} ${c.name()}`.trim()))];
}

/** A script by which a shell completes the commands of a program. */
export function completionFor(program: Command, shell: 'bash' | 'zsh'): string {
  const cases = nodesOf(program)
    .map(({ path, words }) => `    "${path}") words="${words.join(' ')}" ;;`)
    .join('\n');
  const bash = `_lithodex_cli() {
  local current="\${COMP_WORDS[COMP_CWORD]}" path="" words="" i word
  [ "\${COMP_WORDS[1]}" = cli ] || { [ "$COMP_CWORD" = 1 ] && COMPREPLY=($(compgen -W "cli start install upgrade remove doctor demo test bench token mover medium extract help" -- "$current")); return; }
  for ((i = 2; i < COMP_CWORD; i++)); do
    word="\${COMP_WORDS[i]}"
    case "$word" in -*) ;; *) path="\${path:+$path }$word" ;; esac
  done
  while :; do
    case "$path" in
${cases}
    esac
    [ -n "$words" ] && break
    case "$path" in *" "*) path="\${path% *}" ;; *) break ;; esac
  done
  COMPREPLY=($(compgen -W "$words" -- "$current"))
}
complete -o default -F _lithodex_cli lithodex ./lithodex
`;
  return shell === 'bash' ? bash : `autoload -U +X bashcompinit && bashcompinit\n${bash}`;
}
