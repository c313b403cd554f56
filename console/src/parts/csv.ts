// What a spreadsheet would take for a formula is taken as text; numbers stay numbers.
const disarmed = (text: string) => (/^[=+@\-\t\r]/.test(text) && Number.isNaN(Number(text)) ? `'${text}` : text);

const quoted = (value: unknown) => {
  const text = disarmed(String(value ?? ''));
  return /[",\r\n]/.test(text) ? `"${text.replaceAll('"', '""')}"` : text;
};

/** Rows with the same keys as CSV (RFC 4180), the keys first. */
export function csvOf(rows: Record<string, unknown>[]): string {
  const keys = Object.keys(rows[0] ?? {});
  return [keys.map(quoted).join(','), ...rows.map((r) => keys.map((k) => quoted(r[k])).join(','))].join('\r\n') + '\r\n';
}
