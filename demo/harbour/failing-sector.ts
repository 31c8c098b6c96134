import fs from 'node:fs';

/** Flips a bit in the larger of the packs that were written last, as a failing sector of the disk would. */
export function spoilNewestPack(disk: string): void {
  const packs = fs.readdirSync(`${disk}/packs`, { recursive: true, encoding: 'utf8' }).map((name) => `${disk}/packs/${name}`);
  const files = packs.map((name) => ({ name, ...statOf(name) })).filter((f) => f.file);
  const recent = files.sort((a, b) => b.at - a.at).slice(0, 4);
  const newest = recent.reduce((a, b) => (a.size >= b.size ? a : b)).name;
  const data = fs.readFileSync(newest);
  data[Math.floor(data.length / 3)]! ^= 8;
  fs.writeFileSync(newest, data);
}

function statOf(name: string): { file: boolean; at: number; size: number } {
  const stat = fs.statSync(name);
  return { file: stat.isFile(), at: stat.mtimeMs, size: stat.size };
}
