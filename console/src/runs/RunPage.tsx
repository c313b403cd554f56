import { Tabs } from '@mantine/core';
import { useMutation, useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { Link, useNavigate, useParams } from 'react-router';
import { Act } from '../parts/Act';
import { Confirm } from '../parts/Confirm';
import { Trouble } from '../parts/Loaded';
import { Fact, Facts, PageHead } from '../parts/Panel';
import { Share } from '../parts/Share';
import { State } from '../parts/State';
import { api, told } from '../shared/client';
import type { Plan, Run, Shapes } from '../shared/shapes';
import { moment, seconds, span, spanOf } from '../shared/times';
import { useNow } from '../shared/useNow';
import { short, words } from '../shared/words';
import { Afterwards } from './Afterwards';
import { AwaitedPersons, AwaitedSignOff } from './Awaited';
import { Begin } from './Begin';
import { ComparedTab } from './ComparedTab';
import { Halt } from './Halt';
import { LogTab } from './LogTab';
import { MembersTab } from './MembersTab';
import { PartsTab } from './PartsTab';
import { ReportTab } from './ReportTab';
import { forecastOf } from './forecast';
import { TideLine } from './TideLine';
import './run.css';
import { fewTides, tideToShow } from './tides';
import { useRun } from './useRun';
import { WhoRunsWhat } from './WhoRunsWhat';

/** How many members of a part are shown before somebody asks for more. */
const membersShown = 200;

const tabs = [
  ['members', 'Members'],
  ['parts', 'Parts'],
  ['log', 'Log'],
  ['afterwards', 'Points and follow-ups'],
  ['report', 'Report'],
  ['compared', 'Compared'],
] as const;

/** What is read at length has the room of the tide line. */
const readers = ['log', 'report', 'compared'];

/** One run, live: where it stands, the forecast against its window, what waits, the members at work, and what stands behind. */
export function RunPage() {
  const { id = '', part } = useParams();
  const [chosen, setChosen] = useState<number>();
  const [most, setMost] = useState(membersShown);
  const { data: run, error, connected } = useRun(id, chosen ?? 'current', most);
  const plan = useQuery({
    queryKey: ['plan', run?.plan],
    queryFn: () => told(api.GET('/api/plans/{digest}', { params: { path: { digest: run?.plan ?? '' } } })),
    enabled: run !== undefined,
    retry: false,
    staleTime: Infinity,
  });
  const go = useNavigate();
  const now = useNow();
  if (error) return <p className="problem">{error.message}</p>;
  if (!run) return <p className="soft">Reading the run …</p>;
  const block = run.blocks.find((b) => b.number === (chosen ?? Math.max(1, run.currentBlock)));
  const shown = part ?? (run.ended ? 'afterwards' : 'members');
  // Where somebody has to decide or sign, the members stand right below that: the tide line can wait.
  const waits = run.decisions.length > 0 || run.persons.length > 0;
  const toPart = (number: number) => {
    setChosen(number === run.currentBlock ? undefined : number);
    void go(`/runs/${id}/members`);
  };
  return (
    <div className="stack run">
      <Head run={run} connected={connected} now={now} />
      <RunFacts run={run} plan={plan.data?.plan} now={now} />
      <Notes run={run} now={now} />
      {run.decisions.length > 0 && <Halt run={run} plan={plan.data?.plan} now={now} />}
      <AwaitedSignOff run={run} />
      <AwaitedPersons run={run} now={now} />
      {!readers.includes(shown) && !waits && <TideLine run={run} />}
      <Tabs value={shown} onChange={(v) => void go(`/runs/${id}/${v ?? 'members'}`)} keepMounted={false}>
        <Tabs.List className="no-print">
          {tabs.map(([value, title]) => (
            <Tabs.Tab key={value} value={value}>
              {title}
            </Tabs.Tab>
          ))}
        </Tabs.List>
        <Tabs.Panel value="members" pt="sm">
          {block && (
            <MembersTab
              run={run}
              plan={plan.data?.plan}
              block={block}
              now={now}
              onPart={setChosen}
              onMore={() => setMost(most + 5 * membersShown)}
            />
          )}
        </Tabs.Panel>
        <Tabs.Panel value="parts" pt="sm">
          <PartsTab run={run} onPart={toPart} />
        </Tabs.Panel>
        <Tabs.Panel value="log" pt="sm">
          <LogTab run={run} />
        </Tabs.Panel>
        <Tabs.Panel value="afterwards" pt="sm">
          <Afterwards run={run} />
        </Tabs.Panel>
        <Tabs.Panel value="report" pt="sm">
          <ReportTab run={run} />
        </Tabs.Panel>
        <Tabs.Panel value="compared" pt="sm">
          <ComparedTab run={run} />
        </Tabs.Panel>
      </Tabs>
      {!readers.includes(shown) && waits && <TideLine run={run} />}
    </div>
  );
}

function Head({ run, connected, now }: { run: Run; connected: boolean; now: number }) {
  const [holding, setHolding] = useState(false);
  const say = useMutation({
    mutationFn: () => told(api.POST('/api/runs/{run}/go-on', { params: { path: { run: run.run } } })),
  });
  const hold = useMutation({
    mutationFn: (atOnce: boolean) =>
      told(api.POST('/api/runs/{run}/hold', { params: { path: { run: run.run } }, body: { atOnce, notAtATime: false } })),
    onSuccess: () => setHolding(false),
  });
  return (
    <PageHead
      title={run.label || run.run}
      actions={
        <>
          <Trouble of={say.error ?? (holding ? null : hold.error)} />
          <Begin run={run} />
          {(run.status === 'running' || run.status === 'waiting') && (
            <Act call="POST /api/runs/{run}/hold" variant="default" loading={hold.isPending && !holding} onClick={() => hold.mutate(false)}>
              Hold at the next safe place
            </Act>
          )}
          {run.status === 'holding' && (
            <Act call="POST /api/runs/{run}/hold" variant="default" onClick={() => setHolding(true)}>
              Hold at once …
            </Act>
          )}
          {(run.status === 'held' || run.status === 'holding') && (
            <Act call="POST /api/runs/{run}/go-on" loading={say.isPending} onClick={() => say.mutate()}>
              Go on
            </Act>
          )}
        </>
      }
    >
      <span data-testid="status">
        <State of={run.status} strong />
      </span>
      <span className="id">{run.run}</span>
      {!connected && (
        <span className="problem" role="alert">
          The connection is lost; what you see is as of {moment(run.lastAt, now)}.
        </span>
      )}
      {holding && (
        <Confirm
          call="POST /api/runs/{run}/hold"
          title="Hold at once"
          act="Hold at once"
          danger
          pending={hold.isPending}
          error={hold.error}
          onAct={() => hold.mutate(true)}
          onClose={() => setHolding(false)}
        >
          <p>
            No further step is begun, even with members in the middle: they stay out of service until the run goes on. What is at work on a
            node comes to its own end.
          </p>
        </Confirm>
      )}
    </PageHead>
  );
}

/** The forecast, and whether it still fits the window that the run is in. */
function Forecast({ run, plan, now }: { run: Run; plan?: Plan; now: number }) {
  const block = run.blocks.find((b) => b.number === run.currentBlock);
  const window = plan?.windows.find((w) => (block ? w.firstMove <= block.move && block.move <= w.lastMove : false));
  if (run.ended) return <Fact name="Ended">{moment(run.ended, now)}</Fact>;
  const end = forecastOf(run, now);
  if (!end) return <Fact name="Planned">{spanOf(run.planned)}</Fact>;
  const planned = run.started ? Date.parse(run.started) + seconds(run.planned) * 1000 : undefined;
  const late = planned === undefined ? 0 : (Date.parse(end.at) - planned) / 1000;
  return (
    <>
      <Fact name="Forecast end">
        {moment(end.at, now)}
        {end.ifNow && <span className="soft"> if decided now</span>}
        {Math.abs(late) >= 60 && (
          <span className={late > 0 ? 'warn' : 'soft'}>
            , {span(Math.abs(late))} {late > 0 ? 'late' : 'early'}
          </span>
        )}
      </Fact>
      {window && <Fact name="Window ends">{moment(window.to, now)}</Fact>}
    </>
  );
}

function RunFacts({ run, plan, now }: { run: Run; plan?: Plan; now: number }) {
  const atWork = run.blocks.find((b) => b.number === run.currentBlock);
  const [asked, setAsked] = useState<Shapes['TideView']>();
  return (
    <Facts>
      {asked && <WhoRunsWhat run={run} tide={asked} onClose={() => setAsked(undefined)} />}
      <Fact name="Steps done">
        <Share of={run.share} />{' '}
        <span className="soft">
          {run.stepsDone} of {run.stepsTotal}
        </span>
      </Fact>
      <Forecast run={run} plan={plan} now={now} />
      {atWork && !run.ended && (
        <Fact name="Part">
          {atWork.number} of {run.blocks.length}
        </Fact>
      )}
      {atWork && (
        <Fact name="Return path" title={atWork.return.why}>
          <State of={atWork.return.state}>
            {words(atWork.return.state)}
            {seconds(atWork.return.length) > 0 && `, ${spanOf(atWork.return.length)}`}
          </State>
        </Fact>
      )}
      {atWork && atWork.componentsOut.length > 0 && <Fact name="Out of service">{atWork.componentsOut.join(', ')}</Fact>}
      {tideToShow(run.tide).map((t) => (
        <Fact key={`${t.component} ${t.to}`} name={t.component}>
          <button type="button" className="bare as-link" onClick={() => setAsked(t)}>
            {t.new} of {t.old + t.new} on {t.to}
          </button>
        </Fact>
      ))}
      {run.tide.length > fewTides && (
        <Fact name="Moves done">
          {run.tide.filter((t) => t.old === 0).length} of {run.tide.length}
        </Fact>
      )}
      {run.measures.length > 0 && (
        <Fact name="Temporary measures open" title={run.measures.join('\n')}>
          {run.measures.length}
        </Fact>
      )}
      <Fact name="Plan">
        <Link to={`/plans/${encodeURIComponent(run.plan)}`} title={run.goal.join('; ')}>
          {short(run.plan)}
        </Link>
      </Fact>
      <Fact name="By">{run.by}</Fact>
    </Facts>
  );
}

/** What is to be known of a run besides: what it waits for, its return, whose return it is. */
function Notes({ run, now }: { run: Run; now: number }) {
  const waits = run.waitsFor && run.persons.length === 0 && !run.signOffs.some((s) => s.awaited) && run.decisions.length === 0;
  return (
    <>
      {waits && (
        <p role="status" className="warn">
          Waits: {run.waitsFor}
        </p>
      )}
      {run.parent && (
        <p>
          This is the return of <Link to={`/runs/${run.parent}`}>{run.parent}</Link>.
        </p>
      )}
      {run.child && run.child !== 'none' && (
        <p>
          The return is run <Link to={`/runs/${run.child}`}>{run.child}</Link>.
        </p>
      )}
      {run.holdsAt && <p>It is to hold at the next safe place from {moment(run.holdsAt, now)} on.</p>}
      {run.ledBackBy && (
        <p>
          It was led back afterwards by run <Link to={`/runs/${run.ledBackBy}`}>{run.ledBackBy}</Link>.
        </p>
      )}
    </>
  );
}
