import type { Difference } from '../shared/shapes';

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
  return (
    <table className="lines" aria-label="out of line">
      <thead>
        <tr>
          <th>What</th>
          <th>Expected</th>
          <th>Found</th>
          <th>Held against</th>
        </tr>
      </thead>
      <tbody>
        {gathered(differences).map((d) => (
          <tr key={d.subjects.join(' ') + d.against + d.value}>
            <td title={d.subjects.join('\n')}>
              {d.subjects.length > 2 ? `${d.subject.split('/')[0] ?? ''}, ${String(d.subjects.length)} members` : d.subjects.join(', ')}
            </td>
            <td>
              {d.value !== 'running' && d.against !== 'support' && `${d.value}: `}
              {d.expected}
            </td>
            <td>
              {d.against === 'support' && `${d.value}: `}
              {d.found}
            </td>
            <td>{against[d.against] ?? d.against}</td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}
