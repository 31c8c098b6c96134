/** The SHA-256 sums (64 hexadecimal digits) that stand in a text, whatever stands around them: each once, in small letters, in their order. */
export function sumsIn(text: string): string[] {
  return [...new Set([...text.matchAll(/(?<![0-9a-f])[0-9a-f]{64}(?![0-9a-f])/gi)].map(([sum]) => sum.toLowerCase()))];
}
