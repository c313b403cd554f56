import { keepPreviousData, useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { Link } from 'react-router';
import { byService, get, getList, post, type Estate, type RunLine } from '../shared/api';
import { mark, moment, words } from '../shared/words';
import { OutOfLine, type Difference } from './OutOfLine';

/** What runs where, and what is going on now. */
export function HomePage() {
  const [most, setMost] = useState(50);
  const runs = useQuery({
    queryKey: ['runs', most],
    queryFn: () => getList<RunLine>(`/api/runs?limit=${String(Math.min(most, 500))}`, most),
    placeholderData: keepPreviousData,
    refetchInterval: 2000,
  });
  const estate = useQuery({ queryKey: ['estate'], queryFn: () => get<Estate>('/api/estate'), refetchInterval: 10000 });
  const drift = useQuery({ queryKey: ['drift'], queryFn: () => get<Difference[]>('/api/estate/drift'), refetchInterval: 30000 });
  const cache = useQueryClient();
  const survey = useMutation({
    mutationFn: () => post('/api/surveys'),
    onSuccess: () =>
      void Promise.all([cache.invalidateQueries({ queryKey: ['estate'] }), cache.invalidateQueries({ queryKey: ['drift'] })]),
  });
  return (
    <>
      <section aria-label="runs">
        <h1>Runs</h1>
        {runs.error && <p className="problem">{runs.error.message}</p>}
        {runs.data?.lines.length === 0 && (
          <p>No run yet. Make a plan and open one: tidestep plan make --goal FILE, tidestep run open PLAN.</p>
        )}
        <table>
          <thead>
            <tr>
              <th>run</th>
              <th>is</th>
              <th>steps done</th>
              <th>kind</th>
              <th>started</th>
              <th>by</th>
            </tr>
          </thead>
          <tbody>
            {runs.data?.lines.map((r) => (
              <tr key={r.run}>
                <td>
                  <Link to={`/runs/${r.run}`}>{r.label || r.run}</Link> <span className="soft figures">{r.run}</span>
                </td>
                <td>
                  <span className="mark" aria-hidden="true">
                    {mark(r.setAside ? 'failed' : r.status)}
                  </span>
                  {r.setAside ? `set aside: ${r.setAside}` : words(r.status)}
                </td>
                <td className="n">{Math.round(r.share * 100)} %</td>
                <td>{r.kind}</td>
                <td className="n">{r.started ? moment(r.started, byService(runs.dataUpdatedAt)) : 'not yet'}</td>
                <td>{r.by}</td>
              </tr>
            ))}
          </tbody>
        </table>
        {runs.data?.more && (
          <p>
            <button type="button" onClick={() => setMost(most + 200)}>
              Older runs
            </button>
          </p>
        )}
      </section>
      <section aria-label="estate" style={{ marginTop: '1.5rem' }}>
        <h1>{estate.data?.title ?? 'Estate'}</h1>
        {estate.error && <p className="problem">{estate.error.message}</p>}
        {estate.data && (
          <p className="soft">
            {estate.data.class} estate, last surveyed{' '}
            {estate.data.surveyed ? new Date(estate.data.surveyed).toLocaleString('en-GB') : 'never'}{' '}
            <button type="button" disabled={survey.isPending} onClick={() => survey.mutate()}>
              {survey.isPending ? 'Reading every member …' : 'Survey now'}
            </button>
          </p>
        )}
        {survey.error && <p className="problem">{survey.error.message}</p>}
        {drift.data && drift.data.length > 0 && <OutOfLine differences={drift.data} />}
        <table>
          <thead>
            <tr>
              <th>component</th>
              <th>runs</th>
              <th>in service</th>
              <th>product</th>
              <th>site</th>
            </tr>
          </thead>
          <tbody>
            {estate.data?.components.map((c) => (
              <tr key={c.component}>
                <td>{c.component}</td>
                <td className="n">
                  {c.versions}
                  {c.mixed && ' (mixed)'}
                  {c.members.some((m) => m.unreached) && ` (${String(c.members.filter((m) => m.unreached).length)} not read)`}
                </td>
                <td className="n">
                  {c.members.filter((m) => m.inService).length} of {c.members.length}
                </td>
                <td>{c.product}</td>
                <td>{c.site ?? 'several'}</td>
              </tr>
            ))}
          </tbody>
        </table>
      </section>
    </>
  );
}
