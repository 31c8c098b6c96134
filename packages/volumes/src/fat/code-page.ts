/** The upper half of code page 437, in which short names are kept that were written by systems that know no other. */
const upper =
  'ÇüéâäàåçêëèïîìÄÅÉæÆôöòûùÿÖÜ¢£¥₧ƒáíóúñÑªº¿⌐¬½¼¡«»░▒▓│┤╡╢╖╕╣║╗╝╜╛┐└┴┬├─┼╞╟╚╔╩╦╠═╬╧╨╤╥╙╘╒╓╫╪┘┌█▄▌▐▀αßΓπΣσµτΦΘΩδ∞φε∩≡±≥≤⌠⌡÷≈°∙·√ⁿ²■\u00a0';

/** Text of bytes of a short name. */
export function shortText(data: Uint8Array): string {
  let text = '';
  for (const byte of data) text += byte < 128 ? String.fromCharCode(byte) : upper[byte - 128]!;
  return text;
}
