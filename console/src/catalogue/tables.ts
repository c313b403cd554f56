/** "certified = supported; retired = unsupported" as words with what they mean; what says nothing is left out. */
export const meaningsOf = (written: string): Record<string, string> =>
  Object.fromEntries(
    written
      .split(/[;\n]/)
      .map((part) => part.split('='))
      .filter((sides) => sides.length === 2 && sides.every((s) => s.trim().length > 0))
      .map(([word = '', means = '']) => [word.trim(), means.trim().toLowerCase()]),
  );
