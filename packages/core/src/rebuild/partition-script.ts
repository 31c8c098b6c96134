import { biosBoot, type DiskLayout, type NewPartition } from './layout';
import type { SystemFacts } from './system-facts';

const sectorBytes = 512;
/** Types by what lies on a partition; source: UEFI specification 2.10 (5.3.3) and the discoverable partitions of systemd. */
const gptTypes = {
  linux: '0fc63daf-8483-4772-8e79-3d69d8477de4',
  swap: '0657fd6d-a4ab-43c4-84e5-0933c84b4f4f',
  efi: 'c12a7328-f81f-11d2-ba4b-00a0c93ec93b',
} as const;
const mbrTypes = { linux: '83', swap: '82', efi: 'ef' } as const;

/** What is kept of an old partition that comes back as itself. */
export interface OldPartition {
  readonly uuid: string;
  readonly label: string;
}

export interface TableIdentity {
  /** Identity of the table; '' for a new one. */
  readonly tableId: string;
  /** Of the old partition that a volume lay on; undefined where a new one is wanted, as of a clone. */
  readonly partitionOf: (volume: string) => OldPartition | undefined;
}

const uuidForm = /^[0-9a-f]{8}(-[0-9a-f]{4}){3}-[0-9a-f]{12}$/i;
const idForm = /^(0x[0-9a-f]{1,8}|[0-9a-f]{8}(-[0-9a-f]{4}){3}-[0-9a-f]{12})$/i;
/** Names go into a line of a script: what would end them there is left out. */
const plainName = (name: string) => name.replace(/[^\x20-\x7e]|["\\]/g, '').slice(0, 36);

/** A table of partitions in the form that sfdisk(8) reads. Sizes are whole sectors of 512 bytes. */
export function partitionScript(layout: DiskLayout, system: Pick<SystemFacts, 'volumes'>, identity: TableIdentity): string {
  const gpt = layout.table === 'gpt';
  const kind = (p: NewPartition) => {
    if ('loader' in p.for) return p.for.loader === 'uefi' ? 'efi' : 'bios';
    const { volume } = p.for;
    const known = system.volumes.find((v) => v.device === volume);
    if (known?.fileSystem === 'swap') return 'swap';
    return known?.fileSystem === 'vfat' && /^\/(boot|efi)/.test(known.mount) ? 'efi' : 'linux';
  };
  const isRoot = (p: NewPartition) =>
    'volume' in p.for && system.volumes.some((v) => 'volume' in p.for && v.device === p.for.volume && v.mount === '/');
  const lines = [...layout.partitions]
    .sort((a, b) => a.no - b.no)
    .map((p) => {
      const what = kind(p);
      const type = gpt ? (what === 'bios' ? biosBoot : gptTypes[what]) : mbrTypes[what === 'bios' ? 'linux' : what];
      const old = 'volume' in p.for ? identity.partitionOf(p.for.volume) : undefined;
      const more = gpt
        ? [old && uuidForm.test(old.uuid) && `uuid=${old.uuid}`, old?.label && plainName(old.label) && `name="${plainName(old.label)}"`]
        : [isRoot(p) && 'bootable'];
      return `${p.no} : ${[`start=${p.start / sectorBytes}`, `size=${p.bytes / sectorBytes}`, `type=${type}`, ...more.filter(Boolean)].join(', ')}`;
    });
  const id = idForm.test(identity.tableId) ? [`label-id: ${identity.tableId}`] : [];
  return [`label: ${gpt ? 'gpt' : 'dos'}`, ...id, 'unit: sectors', '', ...lines, ''].join('\n');
}
