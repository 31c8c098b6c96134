import fs from 'node:fs';

const readBytes = 4 << 20;

/** Which of these byte strings the memory of a process holds anywhere, as they are, in hex or in base64. Reads everything that can be read; what is mapped or freed meanwhile is passed over. */
export function foundInMemory(pid: number, secrets: Readonly<Record<string, Buffer>>): string[] {
  const wanted = Object.entries(secrets).flatMap(([name, bytes]) =>
    [bytes, Buffer.from(bytes.toString('hex')), Buffer.from(bytes.toString('base64').replace(/=+$/, ''))].map((form) => ({ name, form })),
  );
  const longest = Math.max(...wanted.map(({ form }) => form.length));
  const found = new Set<string>();
  const memory = fs.openSync(`/proc/${pid}/mem`, 'r');
  const buffer = Buffer.alloc(readBytes + longest);
  try {
    for (const line of fs.readFileSync(`/proc/${pid}/maps`, 'utf8').split('\n')) {
      const range = /^([0-9a-f]+)-([0-9a-f]+) r/.exec(line);
      if (!range || /\[v(var|syscall|dso)/.test(line)) continue;
      const [from, to] = [parseInt(range[1]!, 16), parseInt(range[2]!, 16)];
      for (let at = from; at < to; at += readBytes) {
        let read: number;
        try {
          read = fs.readSync(memory, buffer, 0, Math.min(buffer.length, to - at), at);
        } catch {
          break;
        }
        for (const { name, form } of wanted) if (buffer.subarray(0, read).includes(form)) found.add(name);
      }
    }
  } finally {
    fs.closeSync(memory);
  }
  return [...found].sort();
}

/** Which of them any file below a folder holds. */
export function foundInFiles(folder: string, secrets: Readonly<Record<string, Buffer>>): string[] {
  const found = new Set<string>();
  for (const name of fs.readdirSync(folder, { recursive: true, encoding: 'utf8' })) {
    if (!fs.statSync(`${folder}/${name}`).isFile()) continue;
    const content = fs.readFileSync(`${folder}/${name}`);
    for (const [secret, bytes] of Object.entries(secrets))
      if ([bytes, Buffer.from(bytes.toString('hex')), Buffer.from(bytes.toString('base64'))].some((form) => content.includes(form)))
        found.add(secret);
  }
  return [...found].sort();
}
