import { Select } from '@mantine/core';
import { useQuery } from '@tanstack/react-query';
import { useSearchParams } from 'react-router';
import { Loaded } from '../parts/Loaded';
import { Panel } from '../parts/Panel';
import { api, listed, told } from '../shared/client';
import type { Run } from '../shared/shapes';
import { day, seconds, span } from '../shared/times';

/** What a run did otherwise than an earlier one, and how long its parts took in both. */
export function ComparedTab({ run }: { run: Run }) {
  const [asked, setAsked] = useSearchParams();
  const runs = useQuery({ queryKey: ['runs', 'all'], queryFn: () => listed('/api/runs', { limit: 200 }, 200) });
  // What it took last time is asked most: the run before of the same name.
  const before = runs.data?.lines.find(
    (r) => r.label !== '' && r.label === run.label && r.run !== run.run && r.opened < (run.opened ?? ''),
  );
  const from = asked.get('from') ?? before?.run ?? '';
  const differences = useQuery({
    queryKey: ['run-differences', run.run, from],
    queryFn: () => told(api.GET('/api/runs/{run}/differences', { params: { path: { run: run.run }, query: { from } } })),
    enabled: from !== '',
  });
  const others = (runs.data?.lines ?? []).filter((r) => r.run !== run.run);
  const same = (r: { label: string }) => (r.label === run.label ? 0 : 1);
  return (
    <Panel
      label="comparison"
      title="Compared with"
      actions={
        <Select
          aria-label="earlier run"
          placeholder="Choose a run"
          searchable
          w={380}
          value={from || null}
          data={others
            .toSorted((a, b) => same(a) - same(b))
            .map((r) => ({ value: r.run, label: `${r.label || r.run}, ${day(r.opened)}, ${r.run}` }))}
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
        <p className="soft">Choose a run to see what this one did otherwise, and how long the parts of both took.</p>
      ) : (
        <Loaded query={differences} what="the comparison">
          {(d) => (
            <div className="wide-right">
              <ul className="close">
                {d.differences.map((line) => (
                  <li key={line}>{line}</li>
                ))}
                {d.differences.length === 0 && <li>Both did the same.</li>}
              </ul>
              <table className="lines">
                <thead>
                  <tr>
                    <th>Part</th>
                    <th className="n">That run</th>
                    <th className="n">This run</th>
                    <th className="n">Difference</th>
                  </tr>
                </thead>
                <tbody>
                  {d.times.map((t) => (
                    <tr key={t.what}>
                      <td>{t.what}</td>
                      <td className="n">{t.first && span(seconds(t.first))}</td>
                      <td className="n">{t.second && span(seconds(t.second))}</td>
                      <td className="n">{t.first && t.second && signed(seconds(t.second) - seconds(t.first))}</td>
                    </tr>
                  ))}
                </tbody>
              </table>
            </div>
          )}
        </Loaded>
      )}
    </Panel>
  );
}

const signed = (s: number) => (Math.abs(s) < 1 ? 'none' : `${s > 0 ? '+' : '−'}${span(Math.abs(s))}`);
