export interface Difference {
  subject: string;
  against: string;
  value: string;
  expected: string;
  found: string;
}

/** The same difference of many members is one line. */
export function gathered(differences: Difference[]): (Difference & { subjects: string[] })[] {
  const lines = new Map<string, Difference & { subjects: string[] }>();
  for (const d of differences) {
    const component = d.subject.split('/')[0] ?? d.subject;
    const key = [component, d.against, d.value, d.expected, d.found].join('\n');
    const line = lines.get(key);
    if (line) line.subjects.push(d.subject);
    else lines.set(key, { ...d, subjects: [d.subject] });
  }
  return [...lines.values()];
}

const against: Record<string, string> = {
  component: 'most of its members',
  'last run': 'the last run left it so',
  restart: 'installed, and a restart is owed',
  catalogue: 'the catalogue',
  support: 'its support',
  survey: 'the last survey',
};

/** Only what differs from what it should be, expected and found side by side. */
export function OutOfLine({ differences }: { differences: Difference[] }) {
  const lines = gathered(differences);
  return (
    <details className="sheet" open={lines.length <= 8} style={{ marginBottom: '0.8rem' }}>
      <summary>
        <h2 style={{ display: 'inline' }}>Out of line, {lines.length}</h2>
      </summary>
      <table aria-label="out of line">
        <thead>
          <tr>
            <th>what</th>
            <th>should be</th>
            <th>is</th>
            <th>held against</th>
          </tr>
        </thead>
        <tbody>
          {lines.map((d) => (
            <tr key={d.subjects.join(' ') + d.against + d.value}>
              <td>
                <span className="figures">
                  {d.subjects.length > 2 ? `${d.subject.split('/')[0] ?? ''}, ${String(d.subjects.length)} members` : d.subjects.join(', ')}
                </span>
              </td>
              <td className="n">
                {d.value !== 'running' && d.against !== 'support' && `${d.value}: `}
                {d.expected}
              </td>
              <td className="n">
                {d.against === 'support' && `${d.value}: `}
                {d.found}
              </td>
              <td>{against[d.against] ?? d.against}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </details>
  );
}
