import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { byService, get } from '../shared/api';
import { age, type MemberView } from './model';

/** Everything that was read of one member: value, where it comes from, and why something is missing; a reading's history at a click. */
export function MemberPanel({ member }: { member: string }) {
  const place = `/api/members/${member.split('/').map(encodeURIComponent).join('/')}`;
  const view = useQuery({ queryKey: ['member', member], queryFn: () => get<MemberView>(place) });
  const [reading, setReading] = useState<string>();
  const history = useQuery({
    queryKey: ['history', member, reading],
    queryFn: () => get<{ at: string; value?: string; missed?: string }[]>(`${place}/history?reading=${encodeURIComponent(reading ?? '')}`),
    enabled: reading !== undefined,
  });
  if (view.error) return <p className="problem">{view.error.message}</p>;
  if (!view.data) return <p>Reading …</p>;
  const { at, lost, product, readings } = view.data;
  return (
    <section className="sheet" aria-label="readings">
      <h2>
        {member} <span className="soft">{product}</span>
      </h2>
      <p className={lost ? 'problem' : 'soft'}>
        {lost ? `Not current: the last survey could not read it: ${lost}. What stands here is ` : 'Read '}
        {at ? age(at, byService(view.dataUpdatedAt)) : 'never'}
      </p>
      <table>
        <thead>
          <tr>
            <th>reading</th>
            <th>value</th>
            <th>from</th>
          </tr>
        </thead>
        <tbody>
          {readings.map((r) => (
            <tr key={r.name}>
              <td>
                <button
                  type="button"
                  className="link"
                  aria-pressed={reading === r.name}
                  onClick={() => setReading(reading === r.name ? undefined : r.name)}
                >
                  {r.name}
                </button>
              </td>
              <td className={r.missed ? 'problem' : 'n'}>{r.missed ? `not read: ${r.missed}` : r.value === '' ? '(none)' : r.value}</td>
              <td className="soft">{r.source}</td>
            </tr>
          ))}
        </tbody>
      </table>
      {history.data && (
        <p aria-label="history">
          <b>{reading}</b>{' '}
          {history.data
            .map(
              (h) =>
                `${h.value ?? (h.missed ? 'not read' : '-')} (${new Date(h.at).toLocaleString('en-GB', { dateStyle: 'short', timeStyle: 'short' })})`,
            )
            .join(', ')}
        </p>
      )}
    </section>
  );
}
