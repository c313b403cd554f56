import { Select } from '@mantine/core';
import { useQuery } from '@tanstack/react-query';
import { useSearchParams } from 'react-router';
import { Loaded } from '../parts/Loaded';
import { Panel } from '../parts/Panel';
import { api, listed, told } from '../shared/client';
import { day } from '../shared/times';
import { short } from '../shared/words';

/** What a plan does otherwise than an earlier one. */
export function ComparedTab({ digest }: { digest: string }) {
  const [asked, setAsked] = useSearchParams();
  const from = asked.get('from') ?? '';
  const plans = useQuery({ queryKey: ['plans', 'all'], queryFn: () => listed('/api/plans', { limit: 200 }, 200) });
  const differences = useQuery({
    queryKey: ['differences', digest, from],
    queryFn: () => told(api.GET('/api/plans/{digest}/differences', { params: { path: { digest }, query: { from } } })),
    enabled: from !== '',
  });
  return (
    <Panel
      label="comparison"
      title="Compared with"
      actions={
        <Select
          aria-label="earlier plan"
          placeholder="Choose a plan"
          searchable
          w={420}
          value={from || null}
          data={(plans.data?.lines ?? [])
            .filter((p) => p.digest !== digest && !p.setAside)
            .map((p) => ({ value: p.digest, label: `${p.goal.join('; ')}, ${day(p.made)}, ${short(p.digest)}` }))}
          onChange={(v) =>
            setAsked((was) => {
              was.set('from', v ?? '');
              return was;
            })
          }
        />
      }
    >
      {from === '' ? (
        <p className="soft">Choose a plan to see what this one does otherwise.</p>
      ) : (
        <Loaded query={differences} what="the comparison">
          {(d) => (
            <ul className="close">
              {d.differences.map((line) => (
                <li key={line}>{line}</li>
              ))}
              {d.differences.length === 0 && <li>It is the same plan.</li>}
            </ul>
          )}
        </Loaded>
      )}
    </Panel>
  );
}
