/** RFC 4180 text of rows. A cell that a spreadsheet would take for a formula gets an apostrophe in front. */
export function stringify(rows: readonly (readonly (string | number)[])[]): string {
  const cell = (value: string | number) => {
    const text = typeof value === 'string' && /^[=+\-@\t\r]/.test(value) ? `'${value}` : String(value);
    return /[",\r\n]/.test(text) ? `"${text.replaceAll('"', '""')}"` : text;
  };
  return rows.map((row) => `${row.map(cell).join(',')}\r\n`).join('');
}
