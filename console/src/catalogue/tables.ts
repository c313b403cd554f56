/** A table as far as it helps to say what its columns mean. */
export interface TableShown {
  number: number;
  rows: number;
  heading: string[];
  first: string[][];
}
export interface RulesAnswer {
  written: boolean;
  revision: number;
  draft: { lines: string[]; verdicts: number; changes: { this: string; at: string; before: string; after: string }[] };
}

/** "certified = supported; retired = unsupported" as words with what they mean; what says nothing is left out. */
export const meaningsOf = (written: string): Record<string, string> =>
  Object.fromEntries(
    written
      .split(/[;\n]/)
      .map((part) => part.split('='))
      .filter((sides) => sides.length === 2 && sides.every((s) => s.trim().length > 0))
      .map(([word = '', means = '']) => [word.trim(), means.trim().toLowerCase()]),
  );
