import { Button, Tabs } from '@mantine/core';
import { useMutation, useQuery } from '@tanstack/react-query';
import { Link, useNavigate, useParams } from 'react-router';
import { Act } from '../parts/Act';
import { Loaded, Trouble } from '../parts/Loaded';
import { Fact, Facts, PageHead } from '../parts/Panel';
import { api, told } from '../shared/client';
import type { Plan, Shapes } from '../shared/shapes';
import { hour, many, spanOf, weekday } from '../shared/times';
import { short } from '../shared/words';
import { ComparedTab } from './ComparedTab';
import { FindingsTab } from './FindingsTab';
import { stripOfPlan } from './model';
import { NeedsTab } from './NeedsTab';
import { PartsTab } from './PartsTab';
import './plans.css';
import { Rehearsals } from './Rehearsals';
import { SignOffs } from './SignOffs';
import { StripChart } from './StripChart';

const tabs = [
  ['parts', 'Parts'],
  ['findings', 'Is it ready?'],
  ['needs', 'Needs'],
  ['rehearsals', 'Rehearsals'],
  ['sign-offs', 'Sign-offs'],
  ['compared', 'Compared'],
] as const;

/** One plan, as a run would carry it out: the strip, times against windows, and below it the parts, findings, needs, rehearsals, sign-offs. */
export function PlanPage() {
  const { digest = '' } = useParams();
  const kept = useQuery({
    queryKey: ['plan', digest],
    queryFn: () => told(api.GET('/api/plans/{digest}', { params: { path: { digest } } })),
  });
  return (
    <Loaded query={kept} what="the plan">
      {(k) => <Kept kept={k} />}
    </Loaded>
  );
}

function Kept({ kept: { digest, plan } }: { kept: Shapes['PlanView'] }) {
  const { part } = useParams();
  const go = useNavigate();
  const open = useMutation({
    mutationFn: () => told(api.POST('/api/runs', { body: { plan: digest, label: plan.goal.join('; '), start: false } })),
    onSuccess: (made) => void go(`/runs/${made.run}`),
  });
  const upgrade = plan.kind === 'upgrade';
  return (
    <div className="stack plan">
      <PageHead
        title={plan.goal.join('; ')}
        actions={
          <>
            <Button variant="default" onClick={() => globalThis.print()}>
              Print
            </Button>
            {upgrade && (
              <>
                <Button component={Link} variant="default" to={`/plans/${encodeURIComponent(digest)}/findings`}>
                  Is it ready?
                </Button>
                <Act call="POST /api/runs" loading={open.isPending} onClick={() => open.mutate()}>
                  Open a run of it
                </Act>
              </>
            )}
          </>
        }
      >
        <span className="id">{short(digest)}</span>
      </PageHead>
      <Trouble of={open.error} />
      <Numbers plan={plan} digest={digest} />
      {(part ?? 'parts') === 'parts' && <StripChart strip={stripOfPlan(plan)} />}
      {plan.notes.length > 0 && (
        <details className="warn" open={plan.notes.length < 3}>
          <summary>To be known: {many(plan.notes.length, 'note')}</summary>
          <ul className="close">
            {plan.notes.map((note) => (
              <li key={note}>{note}</li>
            ))}
          </ul>
        </details>
      )}
      <Tabs value={part ?? 'parts'} onChange={(v) => void go(`/plans/${encodeURIComponent(digest)}/${v ?? 'parts'}`)} keepMounted={false}>
        <Tabs.List className="no-print">
          {tabs
            .filter(([value]) => upgrade || value === 'parts' || value === 'needs')
            .map(([value, title]) => (
              <Tabs.Tab key={value} value={value}>
                {title}
              </Tabs.Tab>
            ))}
        </Tabs.List>
        <Tabs.Panel value="parts" pt="sm">
          <PartsTab digest={digest} plan={plan} />
        </Tabs.Panel>
        <Tabs.Panel value="findings" pt="sm">
          <FindingsTab digest={digest} />
        </Tabs.Panel>
        <Tabs.Panel value="needs" pt="sm">
          <NeedsTab plan={plan} />
        </Tabs.Panel>
        <Tabs.Panel value="rehearsals" pt="sm">
          <Rehearsals digest={digest} />
        </Tabs.Panel>
        <Tabs.Panel value="sign-offs" pt="sm">
          <SignOffs digest={digest} />
        </Tabs.Panel>
        <Tabs.Panel value="compared" pt="sm">
          <ComparedTab digest={digest} />
        </Tabs.Panel>
      </Tabs>
    </div>
  );
}

function Numbers({ plan, digest }: { plan: Plan; digest: string }) {
  return (
    <Facts>
      <Fact name="Moves">{plan.moves.length}</Fact>
      <Fact name="Takes">{spanOf(plan.expected)}</Fact>
      <Fact name="Rollback points">{plan.points.length}</Fact>
      {plan.windows.map((w, i) => (
        <Fact
          key={w.from}
          name={`Window ${String(i + 1)}: ${w.firstMove === w.lastMove ? `move ${String(w.firstMove)}` : `moves ${String(w.firstMove)} to ${String(w.lastMove)}`}`}
        >
          {weekday(w.from)}, {hour(w.from)} to {hour(w.to)}, end {hour(w.ends)}
        </Fact>
      ))}
      {plan.windows.length > 0 && (
        <Fact name="Calendar">
          <a href={`/api/plans/${encodeURIComponent(digest)}/calendar`}>{many(plan.windows.length, 'window')} as iCalendar</a>
        </Fact>
      )}
    </Facts>
  );
}
