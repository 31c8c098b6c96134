import type { AttachedAt } from '@lithodex/contract';

interface Command {
  readonly what: string;
  readonly text: string;
}
type Device = Extract<AttachedAt, { as: 'device' }>;
type Drive = Extract<AttachedAt, { as: 'drive' }>;

/** Ready commands for what is attached, the key in the first of them. */
export function commandsFor(at: AttachedAt): Command[] {
  return at.as === 'device' ? deviceCommands(at) : driveCommands(at);
}

function deviceCommands(at: Device): Command[] {
  const address = `nbds://${at.user}@${at.host}:${at.port}/${at.name}?tls-psk-file=$PWD/keys.psk`;
  const options = `driver=nbd,host=${at.host},port=${at.port},export=${at.name},tls-creds=key`;
  return [
    { what: 'Keep the key first, where only you can read it', text: `(umask 077; echo '${at.user}:${at.key}' > keys.psk)` },
    { what: 'Copy all of it, holes left out', text: `nbdcopy "${address}" ${at.name}.raw` },
    {
      what: 'Have it as a file of this computer without copying it (Linux with FUSE), to be mounted from there',
      text: `mkdir -p attached && nbdfuse attached/${at.name}.raw "${address}"`,
    },
    {
      what: 'Make an image of another format, or hand it to a virtual machine',
      text: `qemu-img convert --object "tls-creds-psk,id=key,dir=$PWD,endpoint=client,username=${at.user}" --image-opts "${options}" -O qcow2 ${at.name}.qcow2`,
    },
  ];
}

/** A certificate that vouches for itself is told to be trusted for this one drive. */
function driveCommands(at: Drive): Command[] {
  const address = `https://${at.host}:${at.port}/`;
  const pem = at.certificate.trim();
  return [
    { what: 'Account and key, to be typed where a program asks for them', text: `${at.user}\n${at.key}` },
    { what: `The certificate shows this fingerprint (SHA-256): compare it before you trust it`, text: at.fingerprint },
    {
      what: 'Linux: mount it (davfs2), its certificate trusted for this',
      text: `cat > lithodex.pem <<'END'\n${pem}\nEND\nsudo mkdir -p /mnt/${at.name} && sudo mount -t davfs -o ro,trust_ca_cert=$PWD/lithodex.pem ${address} /mnt/${at.name}`,
    },
    { what: 'Files and folders of a Linux desktop', text: `davs://${at.user}@${at.host}:${at.port}/` },
    { what: 'macOS: Finder, Go, Connect to server', text: address },
    {
      what: 'Windows: a drive letter (trust the certificate first: open the address in a browser)',
      text: `net use * ${address} /user:${at.user} ${at.key}`,
    },
    { what: 'One file, by the command line', text: `curl --cacert lithodex.pem -u ${at.user}:${at.key} -O ${address}PATH` },
  ];
}
