import { useMutation } from '@tanstack/react-query';
import { useEffect, useRef, useState } from 'react';
import { Link, useParams } from 'react-router';
import { now as readClock, post, type Step } from '../shared/api';
import { clock, mark, moment, seconds, span, words } from '../shared/words';
import { Afterwards } from './Afterwards';
import { AwaitedPersons } from './AwaitedPersons';
import { AwaitedSignOff } from './AwaitedSignOff';
import { Begin } from './Begin';
import { Halt } from './Halt';
import { Members } from './Members';
import { Output } from './Output';
import { Sign } from './Sign';
import { TideLine } from './TideLine';
import './run.css';
import { fewTides, tideToShow } from './tides';
import { useRun } from './useRun';

/** How many members of a part are shown before somebody asks for more. */
const membersShown = 200;

/** One run, live: where it stands, the part at work with its members, the forecast, the decision at a halt. */
export function RunPage() {
  const { id = '' } = useParams();
  const [chosen, setChosen] = useState<number>();
  const [most, setMost] = useState(membersShown);
  const { data: run, error, connected } = useRun(id, chosen ?? 'current', most);
  const [shown, setShown] = useState<{ attempt: string; title: string }>();
  const [signing, setSigning] = useState<Step>();
  const [now, setNow] = useState(readClock);
  useEffect(() => {
    const timer = setInterval(() => setNow(readClock()), 1000);
    return () => clearInterval(timer);
  }, []);
  const parts = useRef<HTMLElement>(null);
  const current = run?.currentBlock;
  useEffect(() => {
    // The part at work stays in sight; only the list scrolls, never the page.
    const row = parts.current?.querySelector<HTMLElement>('tr[aria-current="true"]');
    if (row && parts.current) parts.current.scrollTop = row.offsetTop - parts.current.clientHeight / 3;
  }, [current]);
  const say = useMutation({ mutationFn: (verb: string) => post(`/api/runs/${id}/${verb}`) });
  const atOnce = useMutation({ mutationFn: () => post(`/api/runs/${id}/hold`, { atOnce: true }) });
  if (error) return <p className="problem">{error.message}</p>;
  if (!run) return <p>Reading the run …</p>;
  const block = run.blocks.find((b) => b.number === (chosen ?? Math.max(1, run.currentBlock)));
  const atWork = run.blocks.find((b) => b.number === run.currentBlock);
  return (
    <>
      <div className="run-head">
        <h1>{run.label || run.run}</h1>
        <span className={`state-${run.status}`}>
          <span aria-hidden="true">{mark(run.status)} </span>
          <strong data-testid="status">{words(run.status)}</strong>
        </span>
        {!connected && <span className="problem">The connection is lost; what you see is as of {clock(run.lastAt)}.</span>}
        <span className="actions">
          <Begin run={run} />
          {(run.status === 'running' || run.status === 'waiting') && (
            <button type="button" onClick={() => say.mutate('hold')}>
              Hold at the next safe place
            </button>
          )}
          {run.status === 'holding' && (
            <button type="button" onClick={() => atOnce.mutate()}>
              Hold at once
            </button>
          )}
          {(run.status === 'held' || run.status === 'holding') && (
            <button type="button" className="main" onClick={() => say.mutate('go-on')}>
              Go on
            </button>
          )}
          {run.started && (
            <a href={`/api/runs/${run.run}/report?format=markdown`} target="_blank" rel="noreferrer">
              report
            </a>
          )}
          <a href={`/api/runs/${run.run}/log`} target="_blank" rel="noreferrer">
            log
          </a>
        </span>
      </div>
      <dl className="facts">
        <div>
          <dt>goal</dt>
          <dd>{run.goal.join('; ')}</dd>
        </div>
        <div>
          <dt>steps</dt>
          <dd className="figures">
            {run.stepsDone} of {run.stepsTotal} ({Math.round(run.share * 100)} %)
          </dd>
        </div>
        <div>
          <dt>{run.ended ? 'ended' : 'forecast end'}</dt>
          <dd className="figures">
            {run.ended ? moment(run.ended, now) : run.forecastEnd ? moment(run.forecastEnd, now) : `planned ${span(seconds(run.planned))}`}
          </dd>
        </div>
        {tideToShow(run.tide).map((t) => (
          <div key={`${t.component} ${t.to}`}>
            <dt>{t.component}</dt>
            <dd className="figures">
              {t.new} of {t.old + t.new} on {t.to}
            </dd>
          </div>
        ))}
        {run.tide.length > fewTides && (
          <div>
            <dt>moves</dt>
            <dd className="figures">
              {run.tide.filter((t) => t.old === 0).length} of {run.tide.length} done
            </dd>
          </div>
        )}
        {atWork && (
          <div>
            <dt>return path</dt>
            <dd className={`state-${atWork.return.state}`}>
              {words(atWork.return.state)}
              {seconds(atWork.return.length) > 0 && `, ${span(seconds(atWork.return.length))}`}
            </dd>
          </div>
        )}
        {run.measures.length > 0 && (
          <div>
            <dt>temporary measures open</dt>
            <dd className="figures">{run.measures.length}</dd>
          </div>
        )}
      </dl>
      {say.error && <p className="problem">{say.error.message}</p>}
      {run.waitsFor && run.persons.length === 0 && !run.signOffs.some((s) => s.awaited) && <p role="status">Waits: {run.waitsFor}</p>}
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
      {run.decisions.length > 0 && <Halt run={run} />}
      <AwaitedSignOff run={run} />
      <AwaitedPersons run={run} now={now} />
      <TideLine run={run} />
      <div className="columns">
        <section className="sheet parts" aria-label="parts" ref={parts}>
          <h2>Parts</h2>
          <table>
            <thead>
              <tr>
                <th>part</th>
                <th>is</th>
                <th>took, or takes</th>
                <th>return path after it</th>
              </tr>
            </thead>
            <tbody>
              {run.blocks.map((b) => (
                <tr key={b.number} aria-current={b.number === block?.number}>
                  <td>
                    <button type="button" onClick={() => setChosen(b.number === run.currentBlock ? undefined : b.number)}>
                      <span className="figures">{b.number}</span> {b.title}
                    </button>
                  </td>
                  <td className={`state-${b.status}`}>
                    <span className="mark" aria-hidden="true">
                      {mark(b.status)}
                    </span>
                    {b.status}
                  </td>
                  <td className="n">
                    {b.begun
                      ? span((Date.parse(b.ended ?? run.lastAt) - Date.parse(b.begun)) / 1000)
                      : span(seconds(b.expected) + seconds(b.settle))}
                  </td>
                  <td className={`n state-${b.return.state}`}>
                    {words(b.return.state)}
                    {seconds(b.return.length) > 0 && `, ${span(seconds(b.return.length))}`}
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
        </section>
        {block && (
          <Members
            block={block}
            now={now}
            onMore={() => setMost(most + 5 * membersShown)}
            onOutput={(attempt, title) => setShown({ attempt, title })}
            onSign={setSigning}
          />
        )}
      </div>
      {run.ended && <Afterwards run={run} />}
      {signing && <Sign run={run.run} step={signing} onClose={() => setSigning(undefined)} />}
      {shown && <Output run={run.run} attempt={shown.attempt} title={shown.title} onClose={() => setShown(undefined)} />}
    </>
  );
}
