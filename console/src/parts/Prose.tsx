import { lexer, type Token, type Tokens } from 'marked';
import { Fragment, type ReactNode } from 'react';
import { Link } from 'react-router';

/** Markdown as a page: headings, paragraphs, lists, emphasis, code and links. Nothing of it is ever taken as HTML, and
 * what this does not know is shown as it was written. Each heading begins a section of its own. */
export function Prose({ text }: { text: string }) {
  const sections: Token[][] = [[]];
  for (const token of lexer(text)) {
    if (token.type === 'heading') sections.push([]);
    sections.at(-1)?.push(token);
  }
  return (
    <div className="prose">
      {sections
        .filter((s) => s.length > 0)
        .map((section, i) => (
          <section key={i}>{section.map(block)}</section>
        ))}
    </div>
  );
}

function block(token: Token, key: number): ReactNode {
  switch (token.type) {
    case 'space':
      return null;
    case 'heading':
      return <h2 key={key}>{inline(token as Tokens.Heading)}</h2>;
    case 'paragraph':
      return <p key={key}>{inline(token as Tokens.Paragraph)}</p>;
    case 'list': {
      const { ordered, items } = token as Tokens.List;
      const inner = items.map((item, i) => <li key={i}>{item.tokens.map(block)}</li>);
      return ordered ? <ol key={key}>{inner}</ol> : <ul key={key}>{inner}</ul>;
    }
    case 'text':
      return <Fragment key={key}>{inline(token as Tokens.Text)}</Fragment>;
    case 'code':
      return <pre key={key}>{(token as Tokens.Code).text}</pre>;
    default:
      return <p key={key}>{token.raw}</p>;
  }
}

const inline = (of: { tokens?: Token[]; text: string }): ReactNode => of.tokens?.map(span) ?? of.text;

function span(token: Token, key: number): ReactNode {
  switch (token.type) {
    case 'strong':
      return <b key={key}>{inline(token as Tokens.Strong)}</b>;
    case 'em':
      return <em key={key}>{inline(token as Tokens.Em)}</em>;
    case 'codespan':
      return <code key={key}>{(token as Tokens.Codespan).text}</code>;
    case 'link': {
      const { href } = token as Tokens.Link;
      // Only pages of this console: nothing else is led to from here.
      return /^\/(?!\/)/.test(href) ? (
        <Link key={key} to={href}>
          {inline(token as Tokens.Link)}
        </Link>
      ) : (
        <Fragment key={key}>{token.raw}</Fragment>
      );
    }
    case 'text':
    case 'escape':
      return <Fragment key={key}>{(token as Tokens.Text).text}</Fragment>;
    default:
      return <Fragment key={key}>{token.raw}</Fragment>;
  }
}
