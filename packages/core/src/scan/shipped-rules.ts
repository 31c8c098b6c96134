/** A file of rules, in the open language of YARA. */
export interface RuleFile {
  readonly name: string;
  readonly text: string;
}

/**
 * The rules that ship: what attackers leave behind whatever they use, and a sample that does no harm, by which one tries that scans find something. `grade`: infected, or suspect for what may have a
 * good reason.
 */
export const shippedRules: readonly RuleFile[] = [
  {
    name: 'Harmless sample',
    text: `rule harmless_sample {
  meta:
    about = "the sample by which scans are tried; it does no harm"
    grade = "infected"
  strings:
    $a = "LITHODEX-HARMLESS-SAMPLE-OF-MALWARE-7Q4X"
  condition:
    $a
}
`,
  },
  {
    name: 'Ransom notes',
    text: `rule ransom_note {
  meta:
    about = "a note that asks for money for files"
    grade = "infected"
  strings:
    $files = /[Yy]our (important )?(files|data|documents)( and backups)? (have been|are|were) (encrypted|locked|stolen)/
    $loud = /YOUR (IMPORTANT )?(FILES|DATA|DOCUMENTS) (HAVE BEEN|ARE|WERE) (ENCRYPTED|LOCKED|STOLEN)/
    $wallet = /[Ww]allet/
    $onion = /[a-z2-7]{56}\\.onion/
    $deadline = /([Ww]ithin|[Aa]fter) \\d{1,3} (hours|days)/
    $decrypt = /[Dd]ecrypt(or|ion)/
  condition:
    filesize < 200KB and ($files or $loud) and 1 of ($wallet, $onion, $deadline, $decrypt)
}
`,
  },
  {
    name: 'Backups removed',
    text: `rule removes_backups {
  meta:
    about = "commands that take away what one could go back to"
    grade = "infected"
  strings:
    $shadow = /[Dd]elete +[Ss]hadows +\\/[Aa]ll/
    $shadow_object = /[Ss]hadow[Cc]opy +[Dd]elete/
    $catalog = /[Dd]elete +[Cc]atalog +-quiet/
    $recovery = /[Rr]ecovery[Ee]nabled +[Nn]o/
    $ignore = /[Bb]oot[Ss]tatus[Pp]olicy +[Ii]gnore[Aa]ll/
  condition:
    filesize < 8MB and 2 of them
}
`,
  },
  {
    name: 'Scripts that hide what they do',
    text: `rule hidden_script {
  meta:
    about = "a script that unpacks and runs what it hides"
    grade = "suspect"
  strings:
    $decoded = /base64 (-d|--decode)[^\\n]{0,80}\\| ?(ba|z|da)?sh\\b/
    $fetched = /(curl|wget) [^\\n|]{1,300}\\| ?(sudo )?(ba|z|da)?sh\\b/
    $encoded = /-([Ee]nc|[Ee]ncoded[Cc]ommand) +[A-Za-z0-9+\\/=]{120}/
    $php = /eval ?\\( ?(gzinflate|gzuncompress|str_rot13|base64_decode) ?\\(/
    $reverse = /(ba)?sh\\s+-i\\s*[>&]+\\s*\\/dev\\/tcp\\//
  condition:
    filesize < 2MB and any of them
}
`,
  },
];
