// systemd units of an installation, as text.
const note = '# Written by "./lithodex install"; taken away by "./lithodex remove".\n';

export const unitNames = ['lithodex-database.service', 'lithodex-server.service', 'lithodex-mover.service', 'lithodex.target'];
export const unitFolder = '/etc/systemd/system';
/** Account that the server runs as. */
export const serverAccount = 'lithodex';

const hardened = [
  'NoNewPrivileges=yes',
  'ProtectKernelTunables=yes',
  'ProtectKernelModules=yes',
  'ProtectKernelLogs=yes',
  'ProtectControlGroups=yes',
  'ProtectClock=yes',
  'ProtectHostname=yes',
  'LockPersonality=yes',
  'RestrictRealtime=yes',
  'RestrictSUIDSGID=yes',
  'RestrictNamespaces=yes',
  'SystemCallArchitectures=native',
  'UMask=0077',
];
/** What writes nowhere but where that is said. */
const enclosed = [...hardened, 'PrivateTmp=yes', 'PrivateDevices=yes', 'ProtectSystem=strict', 'ProtectHome=yes', 'ProtectProc=invisible'];

const section = (name, lines) => `[${name}]\n${lines.join('\n')}\n`;
const quoted = (value) => `"${value.replaceAll('\\', '\\\\').replaceAll('"', '\\"').replaceAll('%', '%%')}"`;

function service({ description, after, part, program, node, state, more, optional = [] }) {
  return [
    note,
    section('Unit', [
      `Description=${description}`,
      `After=network-online.target ${after.join(' ')}`.trim(),
      'Wants=network-online.target',
      ...optional,
      'PartOf=lithodex.target',
    ]),
    section('Service', [
      'Type=notify',
      'NotifyAccess=all',
      `WorkingDirectory=${program}`,
      `ExecStart=${quoted(node)} ${quoted(`${program}/scripts/launcher/main.mjs`)} part ${part} --state ${quoted(state)}`,
      'Restart=on-failure',
      'RestartSec=2',
      'TimeoutStartSec=900',
      'TimeoutStopSec=60',
      'KillMode=mixed',
      ...more,
    ]),
    section('Install', ['WantedBy=lithodex.target']),
  ].join('\n');
}

/**
 * The units by their names. `program`: where the program lies; `node`: the Node.js that runs it; `state`: folder of the installation; `ownDatabase`: it has a server of its own;
 * `lowPort`: a port below 1024 is listened at.
 */
export function unitsOf({ program, node, state, ownDatabase, lowPort }) {
  const common = { program, node, state };
  const database = service({
    ...common,
    description: 'Lithodex, its database',
    after: [],
    part: 'database',
    more: [
      ...enclosed.filter((l) => l !== 'RestrictSUIDSGID=yes'),
      `ReadWritePaths=${quoted(state)}`,
      'CapabilityBoundingSet=CAP_CHOWN CAP_DAC_OVERRIDE CAP_FOWNER CAP_KILL CAP_SETGID CAP_SETUID',
    ],
  });
  const server = service({
    ...common,
    description: 'Lithodex, its server',
    after: ownDatabase ? ['lithodex-database.service'] : [],
    optional: ownDatabase ? ['Requires=lithodex-database.service'] : [],
    part: 'server',
    more: [
      `User=${serverAccount}`,
      `Group=${serverAccount}`,
      ...enclosed,
      `ReadWritePaths=${quoted(`${state}/server`)} ${quoted(`${state}/dumps`)}`,
      lowPort ? 'AmbientCapabilities=CAP_NET_BIND_SERVICE' : '',
      `CapabilityBoundingSet=${lowPort ? 'CAP_NET_BIND_SERVICE' : ''}`,
      // by netlink the system tells which addresses it has
      'RestrictAddressFamilies=AF_INET AF_INET6 AF_UNIX AF_NETLINK',
    ].filter(Boolean),
  });
  // it reads what it protects and writes what it brings back, as the accounts that own that
  const mover = service({
    ...common,
    description: 'Lithodex, its mover',
    after: ['lithodex-server.service'],
    part: 'mover',
    more: hardened.filter((l) => !/^(RestrictSUIDSGID|UMask|RestrictNamespaces|ProtectClock)/.test(l)),
  });
  const target = [
    note,
    section('Unit', [
      'Description=Lithodex',
      `Wants=${[...(ownDatabase ? ['lithodex-database.service'] : []), 'lithodex-server.service', 'lithodex-mover.service'].join(' ')}`,
    ]),
    section('Install', ['WantedBy=multi-user.target']),
  ].join('\n');
  return {
    ...(ownDatabase && { 'lithodex-database.service': database }),
    'lithodex-server.service': server,
    'lithodex-mover.service': mover,
    'lithodex.target': target,
  };
}
