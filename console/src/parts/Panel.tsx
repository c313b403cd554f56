import type { ReactNode } from 'react';

/** A sheet with a heading; the heading names the region for whoever can't see it. */
export function Panel({
  title,
  label,
  actions,
  children,
  className = '',
  tone,
}: {
  title?: ReactNode;
  label: string;
  actions?: ReactNode;
  children: ReactNode;
  className?: string;
  tone?: 'alarm' | 'ask';
}) {
  return (
    <section className={`panel ${tone ? `panel-${tone}` : ''} ${className}`} aria-label={label}>
      {(title !== undefined || actions !== undefined) && (
        <div className="panel-head">
          {title !== undefined && <h2>{title}</h2>}
          {actions !== undefined && <div className="actions">{actions}</div>}
        </div>
      )}
      {children}
    </section>
  );
}

/** The heading of a page with what can be done there. */
export function PageHead({ title, children, actions }: { title: ReactNode; children?: ReactNode; actions?: ReactNode }) {
  return (
    <div className="page-head">
      <h1>{title}</h1>
      {children}
      {actions !== undefined && <div className="actions no-print">{actions}</div>}
    </div>
  );
}

/** A name and its value, as many beside one another as there is room for. */
export function Facts({ children }: { children: ReactNode }) {
  return <dl className="facts">{children}</dl>;
}
export function Fact({ name, children, title }: { name: ReactNode; children: ReactNode; title?: string }) {
  return (
    <div title={title}>
      <dt>{name}</dt>
      <dd>{children}</dd>
    </div>
  );
}
