import { keepPreviousData, useMutation, useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { Link, useNavigate } from 'react-router';
import { get, getList, post, type Estate } from '../shared/api';
import { seconds, span } from '../shared/words';
import { GoalForm, emptyDraft } from './GoalForm';
import { goalDocument, type KeptPlan, type Path, type PlanLine, type Product } from './model';
import { PathReport } from './PathReport';
import { SearchStanding } from './SearchStanding';
import './plans.css';

/** Name a goal, see the path and what it beat, make the plan; and the plans that are kept. */
export function PlansPage() {
  const estate = useQuery({ queryKey: ['estate'], queryFn: () => get<Estate>('/api/estate') });
  const products = useQuery({ queryKey: ['catalogue'], queryFn: () => get<Product[]>('/api/catalogue') });
  const [most, setMost] = useState(50);
  const plans = useQuery({
    queryKey: ['plans', most],
    queryFn: () => getList<PlanLine>('/api/plans', most),
    placeholderData: keepPreviousData,
  });
  const [draft, setDraft] = useState(emptyDraft);
  const go = useNavigate();
  const goal = goalDocument(
    draft.order.map((component) => ({ component, release: draft.releases[component] ?? '' })),
    draft.pins,
    draft.allowUntested,
    draft.supportedAt,
  );
  const path = useMutation({ mutationFn: (search: string) => post('/api/paths', { goal, name: 'the goal', search }) as Promise<Path> });
  const make = useMutation({
    mutationFn: () => post('/api/plans', { goal, name: 'the goal' }) as Promise<KeptPlan>,
    onSuccess: (kept) => void go(`/plans/${encodeURIComponent(kept.digest)}`),
  });
  const problem = estate.error ?? products.error ?? path.error ?? make.error;
  return (
    <>
      <h1>Plans</h1>
      {problem && <p className="problem">{problem.message}</p>}
      {path.data && <PathReport path={path.data} />}
      <div className="plan-columns">
        <section className="sheet" aria-label="goal">
          <h2>A goal</h2>
          <p className="actions">
            <button
              type="button"
              className="main"
              disabled={(draft.order.length === 0 && draft.supportedAt === '') || path.isPending}
              onClick={() => path.mutate(crypto.randomUUID())}
            >
              {path.isPending ? 'Looking …' : 'Find the path'}
            </button>{' '}
            <button type="button" disabled={!path.data?.found || path.data.alreadyMet || make.isPending} onClick={() => make.mutate()}>
              Make the plan
            </button>
          </p>
          {path.isPending && <SearchStanding id={path.variables} />}
          {estate.data && products.data && (
            <GoalForm
              estate={estate.data}
              products={products.data}
              draft={draft}
              onChange={(next) => {
                setDraft(next);
                path.reset();
              }}
            />
          )}
        </section>
        <section className="sheet" aria-label="plans">
          <h2>Plans kept</h2>
          {plans.data?.lines.length === 0 && <p>None yet.</p>}
          <table>
            <thead>
              <tr>
                <th>goal</th>
                <th>takes</th>
                <th>moves</th>
                <th>made</th>
              </tr>
            </thead>
            <tbody>
              {plans.data?.lines.map((p) => (
                <tr key={p.digest}>
                  <td>
                    {p.setAside ? (
                      `set aside: ${p.setAside}`
                    ) : (
                      <Link to={`/plans/${encodeURIComponent(p.digest)}`}>{p.goal.join('; ')}</Link>
                    )}{' '}
                    <span className="soft">{p.kind === 'return' && 'return'}</span>
                  </td>
                  <td className="n">{span(seconds(p.expected))}</td>
                  <td className="n">{p.moves}</td>
                  <td className="n">
                    {new Date(p.made).toLocaleString('en-GB', { dateStyle: 'short', timeStyle: 'short' })} {p.by}
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
          {plans.data?.more && (
            <p>
              <button type="button" onClick={() => setMost(most + 200)}>
                Older plans
              </button>
            </p>
          )}
        </section>
      </div>
    </>
  );
}
