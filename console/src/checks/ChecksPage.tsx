import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { Link, useNavigate, useParams } from 'react-router';
import type { PlanLine } from '../plans/model';
import { now, get, post } from '../shared/api';
import { Accept } from './Accept';
import './checks.css';
import { groups, idOf, sign, stands, type Finding, type Round, type Waiver } from './model';

const moment = (at: string) => new Date(at).toLocaleString('en-GB', { dateStyle: 'medium', timeStyle: 'short' });

/** Whether a plan is ready: every finding with its numbers, what helps, and who accepted what. */
export function ChecksPage() {
  const { digest } = useParams();
  const go = useNavigate();
  const cache = useQueryClient();
  const plans = useQuery({ queryKey: ['plans'], queryFn: () => get<PlanLine[]>('/api/plans') });
  const upgrades = plans.data?.filter((p) => p.kind === 'upgrade') ?? [];
  const plan = digest ?? upgrades[0]?.digest;
  const round = useQuery({
    queryKey: ['checks', plan],
    queryFn: () => get<Round>(`/api/plans/${encodeURIComponent(plan ?? '')}/checks`).catch(() => null), // never checked
    enabled: plan !== undefined,
  });
  const check = useMutation({
    mutationFn: () => post(`/api/plans/${encodeURIComponent(plan ?? '')}/checks`) as Promise<Round>,
    onSuccess: (made) => cache.setQueryData(['checks', plan], made),
  });
  const [accepting, setAccepting] = useState<Finding>();
  const waivers = useQuery({ queryKey: ['waivers'], queryFn: () => get<Waiver[]>('/api/waivers') });
  const agree = useMutation({
    mutationFn: (finding: string) => post('/api/waivers/second', { finding }),
    onSuccess: () => {
      void waivers.refetch();
      check.mutate();
    },
  });
  const waiting = waivers.data?.filter((w) => w.needsSecond && !w.second && Date.parse(w.ends) > now()) ?? [];
  const findings = round.data?.round.findings ?? [];
  const ready = round.data && !findings.some((f) => stands(f) && f.level === 'blocker');
  return (
    <>
      <div className="run-head">
        <h1>Checks</h1>
        <span className="actions">
          <button type="button" className="main" disabled={plan === undefined || check.isPending} onClick={() => check.mutate()}>
            {check.isPending ? 'Reading every member …' : 'Check now'}
          </button>
        </span>
      </div>
      <p>
        <label>
          Plan{' '}
          <select aria-label="plan" value={plan ?? ''} onChange={(e) => void go(`/checks/${encodeURIComponent(e.target.value)}`)}>
            {upgrades.map((p) => (
              <option key={p.digest} value={p.digest}>
                {p.digest.slice(7, 17)}: {p.goal.join('; ')}
              </option>
            ))}
          </select>
        </label>{' '}
        {plan && <Link to={`/plans/${encodeURIComponent(plan)}`}>read it</Link>}
      </p>
      {(check.error ?? agree.error) && <p className="problem">{(check.error ?? agree.error)?.message}</p>}
      {plans.data && upgrades.length === 0 && <p>There is no plan yet; make one first.</p>}
      {plan && round.data === null && <p>This plan was never checked.</p>}
      {round.data && (
        <p role="status" aria-label="readiness" className={ready ? 'verdict state-clean' : 'verdict state-closed'}>
          <b>{ready ? 'Ready: nothing stands in the way.' : 'Not ready.'}</b> {round.data.summary}.{' '}
          <span className="soft">
            Round {round.data.number}, {moment(round.data.round.at)}
          </span>
        </p>
      )}
      {waiting.map((w) => (
        <p key={w.finding} className="state-with-loss">
          {w.by} accepts “{w.finding}”: {w.reason}. A second person has to agree.{' '}
          <button type="button" disabled={agree.isPending} onClick={() => agree.mutate(w.finding)}>
            Agree
          </button>
        </p>
      ))}
      {groups(findings).map((g) => (
        <details key={g.title} className="sheet findings" open={!g.folded}>
          <summary>
            <h2>
              {g.title}, {g.findings.length}
            </h2>
          </summary>
          <table aria-label={g.title}>
            <tbody>
              {g.findings.map((f) => (
                <Line key={idOf(f)} finding={f} onAccept={() => setAccepting(f)} />
              ))}
            </tbody>
          </table>
        </details>
      ))}
      {plan && accepting && (
        <Accept
          plan={plan}
          finding={accepting}
          onClose={(accepted) => {
            setAccepting(undefined);
            if (accepted) {
              void waivers.refetch();
              check.mutate();
            }
          }}
        />
      )}
    </>
  );
}

/** What no reason makes bearable: another run at work, and the branch that Tide Step itself sits on. */
const nobodyMayAccept = ['reserved', 'carries-us'];

function Line({ finding: f, onAccept }: { finding: Finding; onAccept: () => void }) {
  const { mark, word } = sign(f);
  return (
    <tr className={stands(f) ? `level-${f.level}` : ''}>
      <td className="sign">
        <span aria-hidden="true">{mark}</span> {word}
      </td>
      <td>
        <span className="figures">{f.subject}</span> <span className="soft">{f.check}</span>
        <div className="what">{f.what}</div>
        {f.waived ? (
          <div className="soft">
            {f.waived.by}
            {f.waived.second && ` and ${f.waived.second}`}, until {moment(f.waived.ends)}: {f.waived.reason}
          </div>
        ) : (
          f.remedy && <div className="remedy">{f.remedy}</div>
        )}
      </td>
      <td className="n">{f.moves.length > 0 && `move${f.moves.length > 1 ? 's' : ''} ${f.moves.join(', ')}`}</td>
      <td>
        {stands(f) && !nobodyMayAccept.includes(f.check) && (
          <button type="button" aria-label={`${f.check === 'manual' ? 'sign' : 'accept'} ${idOf(f)}`} onClick={onAccept}>
            {f.check === 'manual' ? 'Sign …' : 'Accept …'}
          </button>
        )}
      </td>
    </tr>
  );
}
