/** A disk of a machine in a package: its file there and how large it is when it is used. */
export interface OvfDisk {
  readonly file: string;
  /** Bytes of the file. */
  readonly fileSize: number;
  /** Bytes of the disk. */
  readonly size: number;
}

export interface OvfMachine {
  readonly name: string;
  readonly processors: number;
  /** MB. */
  readonly memory: number;
  readonly firmware: 'efi' | 'bios';
  readonly system: string;
  readonly networks: readonly string[];
  readonly note: string;
  readonly disks: readonly OvfDisk[];
}

const escapes: Readonly<Record<string, string>> = { '&': '&amp;', '<': '&lt;', '>': '&gt;', '"': '&quot;', "'": '&apos;' };
/** Characters that XML 1.0 can't hold are left out. */
const xml = (text: string) =>
  text.replace(/[^\t\n\r\u0020-\ud7ff\ue000-\ufffd\u{10000}-\u{10ffff}]/gu, '').replace(/[&<>"']/g, (c) => escapes[c]!);

const item = (fields: readonly (readonly [string, string | number])[]) =>
  `<Item>${fields.map(([name, value]) => `<rasd:${name}>${typeof value === 'number' ? value : xml(value)}</rasd:${name}>`).join('')}</Item>`;

/** The descriptor of a machine in the Open Virtualization Format (DMTF DSP0243), its disks as QCOW2 files. Resource types are those of CIM (DSP8001). */
export function ovfDescriptor(machine: OvfMachine): string {
  const { disks, networks } = machine;
  const files = disks.map((d, i) => `<File ovf:id="file${i + 1}" ovf:href="${xml(d.file)}" ovf:size="${d.fileSize}"/>`);
  const sizes = disks.map(
    (d, i) =>
      `<Disk ovf:diskId="disk${i + 1}" ovf:fileRef="file${i + 1}" ovf:capacity="${d.size}" ovf:format="https://www.qemu.org/docs/master/interop/qcow2.html"/>`,
  );
  const processors = [
    ['ElementName', 'Processors'],
    ['InstanceID', '1'],
    ['ResourceType', 3],
    ['VirtualQuantity', machine.processors],
  ] as const;
  const memory = [
    ['AllocationUnits', 'byte * 2^20'],
    ['ElementName', 'Memory'],
    ['InstanceID', '2'],
    ['ResourceType', 4],
    ['VirtualQuantity', machine.memory],
  ] as const;
  const controller = [
    ['Address', '0'],
    ['ElementName', 'Disk controller'],
    ['InstanceID', '3'],
    ['ResourceType', 20],
  ] as const;
  const drives = disks.map(
    (d, i) =>
      [
        ['AddressOnParent', i],
        ['ElementName', d.file],
        ['HostResource', `ovf:/disk/disk${i + 1}`],
        ['InstanceID', String(10 + i)],
        ['Parent', '3'],
        ['ResourceType', 17],
      ] as const,
  );
  const cards = networks.map(
    (name, i) =>
      [
        ['AutomaticAllocation', 'true'],
        ['Connection', name],
        ['ElementName', `Network card ${i + 1}`],
        ['InstanceID', String(100 + i)],
        ['ResourceType', 10],
      ] as const,
  );
  const hardware = [processors, memory, controller, ...drives, ...cards].map(item).join('\n      ');
  return `<?xml version="1.0" encoding="UTF-8"?>
<Envelope xmlns="http://schemas.dmtf.org/ovf/envelope/1" xmlns:ovf="http://schemas.dmtf.org/ovf/envelope/1" xmlns:rasd="http://schemas.dmtf.org/wbem/wscim/1/cim-schema/2/CIM_ResourceAllocationSettingData" xmlns:vssd="http://schemas.dmtf.org/wbem/wscim/1/cim-schema/2/CIM_VirtualSystemSettingData">
  <References>${files.join('')}</References>
  <DiskSection><Info>Disks of the machine</Info>${sizes.join('')}</DiskSection>
  <NetworkSection><Info>Networks of the machine</Info>${[...new Set(networks)].map((n) => `<Network ovf:name="${xml(n)}"/>`).join('')}</NetworkSection>
  <VirtualSystem ovf:id="${xml(machine.name)}">
    <Info>${xml(machine.note)}</Info>
    <Name>${xml(machine.name)}</Name>
    <OperatingSystemSection ovf:id="1"><Info>Operating system</Info><Description>${xml(machine.system)}</Description></OperatingSystemSection>
    <VirtualHardwareSection>
      <Info>Needs ${machine.firmware === 'efi' ? 'EFI' : 'BIOS'} firmware</Info>
      ${hardware}
    </VirtualHardwareSection>
  </VirtualSystem>
</Envelope>
`;
}

/** The manifest of a package: a line for each file with its SHA-256 in hex. */
export function ovfManifest(sums: readonly { readonly file: string; readonly sha256: string }[]): string {
  return sums.map(({ file, sha256 }) => `SHA256(${file})= ${sha256}\n`).join('');
}
