import { autocompletion, type CompletionContext, type CompletionResult } from '@codemirror/autocomplete';
import { yaml } from '@codemirror/lang-yaml';
import { HighlightStyle, syntaxHighlighting } from '@codemirror/language';
import { linter, lintGutter, type Diagnostic } from '@codemirror/lint';
import { MergeView } from '@codemirror/merge';
import { EditorState } from '@codemirror/state';
import { EditorView } from '@codemirror/view';
import { tags } from '@lezer/highlight';
import { basicSetup } from 'codemirror';
import { useEffect, useRef } from 'react';
import type { Problem } from '../shared/client';
import { pathAt, wordsAt } from './completion';

const looks = EditorView.theme({
  '&': { backgroundColor: 'var(--sheet)', color: 'var(--ink)', fontSize: '13px', border: '1px solid var(--rule-strong)' },
  '.cm-scroller': { fontFamily: 'var(--mono)', lineHeight: '1.45' },
  '.cm-gutters': { backgroundColor: 'var(--raised)', color: 'var(--soft)', border: 'none' },
  '.cm-activeLine, .cm-activeLineGutter': { backgroundColor: 'var(--raised)' },
  '.cm-cursor': { borderLeftColor: 'var(--ink)' },
  '&.cm-focused .cm-selectionBackground, .cm-selectionBackground': { backgroundColor: 'var(--depth-2) !important' },
  '.cm-tooltip': { backgroundColor: 'var(--sheet)', border: '1px solid var(--rule-strong)', color: 'var(--ink)' },
  '.cm-tooltip-autocomplete ul li[aria-selected]': { backgroundColor: 'var(--depth-1)', color: 'var(--ink)' },
  '.cm-changedLine': { backgroundColor: 'var(--warn-sheet) !important' },
  '.cm-changedText': { background: 'none', borderBottom: '2px solid var(--warn)' },
  '.cm-collapsedLines': { background: 'var(--raised)', color: 'var(--soft)' },
  '.cm-collapsedLines::before, .cm-collapsedLines::after': { content: '"…"' },
  '.cm-panels': { backgroundColor: 'var(--raised)', color: 'var(--ink)' },
});
const inks = syntaxHighlighting(
  HighlightStyle.define([
    { tag: [tags.propertyName, tags.definition(tags.propertyName)], color: 'var(--depth-4)' },
    { tag: tags.comment, color: 'var(--soft)', fontStyle: 'italic' },
    { tag: [tags.string, tags.content], color: 'var(--ink)' },
    { tag: [tags.punctuation, tags.separator, tags.bracket], color: 'var(--soft)' },
  ]),
);

/** Names that a document may speak of: what completes values where the schema names none. */
export interface Names {
  components: string[];
  products: string[];
}

function words(schema: unknown, names: Names) {
  return (context: CompletionContext): CompletionResult | null => {
    const before = context.matchBefore(/[\w.-]*/);
    if (!before || (before.from === before.to && !context.explicit)) return null;
    const path = pathAt(context.state.doc.toString(), before.from);
    const known = wordsAt(schema, path).map((w) => ({
      label: w.label,
      info: w.detail,
      type: w.key ? 'property' : 'enum',
      apply: w.key && !path.at(-1)?.endsWith(':') ? `${w.label}: ` : w.label,
    }));
    const last = path.at(-1) ?? '';
    const named =
      last === 'product'
        ? names.products
        : ['to', 'component', 'depends-on', 'stands-on', 'inside', 'peer'].includes(last)
          ? names.components
          : [];
    return { from: before.from, options: [...known, ...named.map((label) => ({ label, type: 'constant' }))] };
  };
}

/** A document as text, checked at every pause, completed from its schema and from what there is. */
export function Editor({
  text,
  label,
  schema,
  names,
  check,
  onChange,
}: {
  text: string;
  label: string;
  schema: unknown;
  names: Names;
  /** All that is wrong with a text. */
  check: (text: string) => Promise<Problem[]>;
  onChange: (text: string) => void;
}) {
  const place = useRef<HTMLDivElement>(null);
  const view = useRef<EditorView>(null);
  const live = useRef({ check, onChange, schema, names });
  useEffect(() => {
    live.current = { check, onChange, schema, names };
  });
  useEffect(() => {
    if (!place.current) return undefined;
    const made = new EditorView({
      parent: place.current,
      doc: text,
      extensions: [
        basicSetup,
        yaml(),
        looks,
        inks,
        lintGutter(),
        autocompletion({ override: [(context) => words(live.current.schema, live.current.names)(context)] }),
        linter(async (v) => (await live.current.check(v.state.doc.toString())).map((p) => mark(p, v.state)), { delay: 350 }),
        EditorView.contentAttributes.of({ 'aria-label': label, tabindex: '0' }),
        EditorView.updateListener.of((update) => {
          if (update.docChanged) live.current.onChange(update.state.doc.toString());
        }),
      ],
    });
    view.current = made;
    return () => made.destroy();
    // What is typed is the editor's own; it is made anew for another document only, by its key.
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, []);
  return <div ref={place} className="editor" />;
}

// A problem at its place; one without a place stands at the first line.
function mark(problem: Problem, state: EditorState): Diagnostic {
  const line = state.doc.line(Math.min(Math.max(1, problem.at?.line ?? 1), state.doc.lines));
  const from = Math.min(line.to, line.from + Math.max(0, (problem.at?.column ?? 1) - 1));
  const word = /^[^\s,:{}[\]]+/.exec(line.text.slice(from - line.from))?.[0].length ?? 0;
  return {
    from,
    to: Math.min(line.to, from + Math.max(1, word)),
    severity: 'error',
    message: `${problem.what}${problem.detail ? ` (${problem.detail})` : ''}${problem.hint ? ` — ${problem.hint}` : ''}`,
  };
}

/** Two texts side by side, what differs marked, what is alike folded. */
export function Differences({ before, after }: { before: string; after: string }) {
  const place = useRef<HTMLDivElement>(null);
  useEffect(() => {
    if (!place.current) return undefined;
    const named = (label: string) => [
      basicSetup,
      yaml(),
      looks,
      inks,
      EditorState.readOnly.of(true),
      EditorView.contentAttributes.of({ 'aria-label': label, tabindex: '0' }),
    ];
    const made = new MergeView({
      parent: place.current,
      a: { doc: before, extensions: named('before') },
      b: { doc: after, extensions: named('after') },
      collapseUnchanged: { margin: 3, minSize: 6 },
    });
    return () => made.destroy();
  }, [before, after]);
  return <div ref={place} className="editor differences" tabIndex={0} role="region" aria-label="differences" />;
}
