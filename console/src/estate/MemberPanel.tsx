import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { Loaded } from '../parts/Loaded';
import { Panel } from '../parts/Panel';
import { api, byService, told } from '../shared/client';
import { ago, moment } from '../shared/times';

/** Everything that was read of one member: value, where it comes from, and why something is missing; a reading's history at a click. */
export function MemberPanel({ member }: { member: string }) {
  const [component = '', node = ''] = member.split('/');
  const path = { component, node };
  const view = useQuery({
    queryKey: ['member', member],
    queryFn: () => told(api.GET('/api/members/{component}/{node}', { params: { path } })),
  });
  const [reading, setReading] = useState<string>();
  const history = useQuery({
    queryKey: ['history', member, reading],
    queryFn: () => told(api.GET('/api/members/{component}/{node}/history', { params: { path, query: { reading: reading ?? '' } } })),
    enabled: reading !== undefined,
  });
  const now = byService(view.dataUpdatedAt);
  return (
    <Panel
      label="readings"
      title={
        <>
          {member} <span className="soft">{view.data?.product}</span>
        </>
      }
    >
      <Loaded query={view} what="the member">
        {({ at, lost, readings }) => (
          <>
            <p className={lost ? 'problem' : 'soft'}>
              {lost ? `Not current: the last survey could not read it: ${lost}. What stands here is ` : 'Read '}
              {at ? ago(at, now) : 'never'}
            </p>
            <table className="lines">
              <thead>
                <tr>
                  <th>Reading</th>
                  <th>Value</th>
                  <th>From</th>
                </tr>
              </thead>
              <tbody>
                {readings.map((r) => (
                  <tr key={r.name}>
                    <td>
                      <button
                        type="button"
                        className="bare as-link"
                        aria-pressed={reading === r.name}
                        onClick={() => setReading(reading === r.name ? undefined : r.name)}
                      >
                        {r.name}
                      </button>
                    </td>
                    <td className={r.missed ? 'problem' : undefined}>
                      {r.missed ? `not read: ${r.missed}` : r.value === '' ? '(none)' : r.value}
                    </td>
                    <td className="soft">{r.source}</td>
                  </tr>
                ))}
              </tbody>
            </table>
            {history.data && (
              <p aria-label="history">
                <b>{reading}</b> {history.data.map((h) => `${h.value ?? (h.missed ? 'not read' : '-')} (${moment(h.at, now)})`).join(', ')}
              </p>
            )}
          </>
        )}
      </Loaded>
    </Panel>
  );
}
