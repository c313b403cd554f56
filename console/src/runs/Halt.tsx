import { Button, Modal, Select, TextInput } from '@mantine/core';
import { keepPreviousData, useMutation, useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { Act } from '../parts/Act';
import { Confirm } from '../parts/Confirm';
import { Panel } from '../parts/Panel';
import { State } from '../parts/State';
import { api, told } from '../shared/client';
import { useMay } from '../shared/may';
import type { Decision, DecisionKind, Guard, Plan, Run } from '../shared/shapes';
import { moment, spanOf, until } from '../shared/times';
import { sentence } from '../shared/words';
import { decisions, ways, wayTitles } from './decisions';
import { OutputView, useOutput } from './OutputView';

const lastLines = 6;

/** A halt or a hold. First what failed and what it printed last, then what is out of service, then until when somebody has to decide; then the three ways out. Nothing happens by the first click. */
export function Halt({ run, plan, now }: { run: Run; plan?: Plan; now: number }) {
  const [choosing, setChoosing] = useState<Decision>();
  const [reading, setReading] = useState(false);
  const block = run.blocks.find((b) => b.number === run.currentBlock);
  const failed = block?.lanes.flatMap((l) => l.steps.filter((s) => s.status === 'failed').map((s) => ({ lane: l, step: s }))) ?? [];
  const first = failed.find((f) => f.step.attempt);
  const output = useOutput(run.run, first?.step.attempt, false);
  const { guards, error: unread } = useGuards(run);
  const out = block?.lanes.filter((l) => l.state && !['in-service', 'reverted'].includes(l.state)) ?? [];
  const turnBack = plan?.blocks.find((b) => b.number === run.currentBlock)?.turnBack;
  const window = plan?.windows.find((w) => (block ? w.firstMove <= block.move && block.move <= w.lastMove : false));
  const whyNot = useMay('POST /api/runs/{run}/decisions');
  const halted = run.halt !== undefined;
  const offered = ways
    .map((way) => ({ way, its: run.decisions.filter((d) => decisions[d.decision].way === way) }))
    .filter((w) => w.its.length > 0);
  return (
    <Panel label="decision" tone={halted ? 'alarm' : 'ask'}>
      <div className="halt">
        <div className="halt-what">
          <h2>
            <State of={halted ? 'halted' : 'held'}>{halted ? 'Halted' : run.status === 'held' ? 'Held' : 'A node does not answer'}</State>
          </h2>
          <p className="halt-why">
            {run.halt ?? (run.status === 'held' ? 'Say go on, or decide.' : 'The run waits for it; its member can be left out.')}
          </p>
          {first && output.data && (
            <>
              <pre className="output halt-output">{output.data.trimEnd().split('\n').slice(-lastLines).join('\n')}</pre>
              <Button variant="subtle" size="compact-sm" onClick={() => setReading(true)}>
                All of the output of {first.step.title}
              </Button>
            </>
          )}
          <dl className="halt-facts">
            <dt>Out of service</dt>
            <dd>
              {out.length === 0 && (block?.componentsOut.length ?? 0) === 0 ? (
                <>nothing</>
              ) : (
                <>
                  {out.map((l) => l.subject).join(', ')}
                  {block && block.componentsOut.length > 0 && `; out as planned: ${block.componentsOut.join(', ')}`}
                </>
              )}
            </dd>
            {unread && (
              <>
                <dt>Guards</dt>
                <dd className="warn">could not be read just now: {unread.message}</dd>
              </>
            )}
            {!unread && guards.length > 0 && (
              <>
                <dt>Guards</dt>
                <dd>
                  {guards.map((g) => (
                    <div key={g.component}>
                      <GuardLine guard={g} />
                    </div>
                  ))}
                  <div className="soft">Read from the nodes just now, and again before anything further goes out.</div>
                </dd>
              </>
            )}
            <dt>Decide by</dt>
            <dd>
              {turnBack ? (
                <>
                  <b>{moment(turnBack, now)}</b> ({until(turnBack, now)}), so that the way back still fits the window
                </>
              ) : window ? (
                <>
                  <b>{moment(window.to, now)}</b>, when the window ends
                </>
              ) : (
                'no window ends; the run waits'
              )}
            </dd>
          </dl>
        </div>
        <div>
          {whyNot && <p className="soft">{whyNot}</p>}
          <div className="halt-ways">
            {offered.map(({ way, its }) => (
              <div key={way} className="halt-way" role="group" aria-label={wayTitles[way]}>
                <h3>{wayTitles[way]}</h3>
                {its.map((d) => (
                  <Act
                    call="POST /api/runs/{run}/decisions"
                    key={d.decision}
                    variant={d.decision === 'try-again' ? 'filled' : 'default'}
                    fullWidth
                    justify="flex-start"
                    title={d.means}
                    onClick={() => setChoosing(d)}
                  >
                    {decisions[d.decision].title}
                  </Act>
                ))}
              </div>
            ))}
          </div>
        </div>
      </div>
      {choosing && <Choice run={run} decision={choosing} onClose={() => setChoosing(undefined)} />}
      <Modal
        opened={reading && first !== undefined}
        onClose={() => setReading(false)}
        size="xl"
        title={first && `${first.step.title}, ${first.lane.subject}`}
        closeButtonProps={{ 'aria-label': 'close' }}
      >
        {first?.step.attempt && (
          <OutputView run={run.run} attempt={first.step.attempt} name={`${first.step.title}, ${first.lane.subject}`} live={false} />
        )}
      </Modal>
    </Panel>
  );
}

/** How the guards stand at a halt or a hold: asked from the nodes now and every half minute, for members may come back or go while it lasts. */
function useGuards(run: Run) {
  const asked = useQuery({
    queryKey: ['guards', run.run, run.sequence],
    queryFn: () => told(api.GET('/api/runs/{run}/guards', { params: { path: { run: run.run } } })),
    refetchInterval: 30_000,
    placeholderData: keepPreviousData,
  });
  return { guards: asked.data ?? [], error: asked.error };
}

function GuardLine({ guard }: { guard: Guard }) {
  if (guard.asPlanned) return <>{guard.component} is out as planned</>;
  const counts = `${String(guard.serving)} in service, ${String(guard.needed)} needed`;
  return (
    <>
      {guard.component} {guard.holds ? 'holds' : <b>does not hold</b>}: {counts}
    </>
  );
}

/** What a decision will do, to whom, how long, what is lost and how the return path stands after it; then the reason, then the word. */
function Choice({ run, decision, onClose }: { run: Run; decision: Decision; onClose: () => void }) {
  const text = decisions[decision.decision];
  const back = decision.decision === 'return-as-far-as';
  const correct = decision.decision === 'correct-and-try-again';
  const moves = [...new Set(run.blocks.filter((b) => b.status !== 'ahead').map((b) => b.move))];
  const [asFarAs, setAsFarAs] = useState('start');
  const [limit, setLimit] = useState('');
  const outlook = useQuery({
    queryKey: ['return-path', run.run, asFarAs, run.sequence],
    queryFn: () => told(api.GET('/api/runs/{run}/return-path', { params: { path: { run: run.run }, query: { asFarAs } } })),
    enabled: text.way !== 'on',
  });
  const decide = useMutation({
    mutationFn: (reason: string) =>
      told(
        api.POST('/api/runs/{run}/decisions', {
          params: { path: { run: run.run } },
          body: {
            decision: decision.decision satisfies DecisionKind,
            reason: reason || undefined,
            asFarAs: back ? asFarAs : undefined,
            halt: run.haltNumber,
            ...(correct && limit && { limit }),
          },
        }),
      ),
    onSuccess: onClose,
  });
  const block = run.blocks.find((b) => b.number === run.currentBlock);
  const path = outlook.data;
  return (
    <Confirm
      call="POST /api/runs/{run}/decisions"
      title={text.title}
      act={back ? 'Return' : text.title}
      danger={text.danger}
      reason={{
        label: 'Reason, for the report',
        needed: text.reason,
        hint: text.reason ? 'It stands in the report beside your name.' : undefined,
      }}
      pending={decide.isPending}
      error={decide.error}
      ready={(!correct || limit.trim() !== '') && (!back || path?.open === true)}
      onAct={(reason) => decide.mutate(reason)}
      onClose={onClose}
    >
      <p>{text.what}</p>
      <p>{sentence(decision.means)}</p>
      {correct && (
        <TextInput label="Another limit" placeholder="like 2 h" value={limit} onChange={(e) => setLimit(e.currentTarget.value)} w={160} />
      )}
      {back && moves.length > 1 && (
        <Select
          label="As far as"
          w={220}
          value={asFarAs}
          data={[
            { value: 'start', label: 'the start' },
            ...moves.slice(1).map((m) => ({ value: `move ${String(m)}`, label: `move ${String(m)}` })),
          ]}
          onChange={(v) => setAsFarAs(v ?? 'start')}
        />
      )}
      {text.way === 'on' && block && (
        <p>
          <b>Return path after this part:</b> {block.return.why || block.return.state}.
        </p>
      )}
      {text.way !== 'on' && path && (
        <dl className="halt-facts">
          {path.open ? (
            <>
              <dt>{back ? 'Led back' : 'Could be led back'}</dt>
              <dd>{path.goal?.join('; ') || 'nothing has been changed'}</dd>
              <dt>It takes</dt>
              <dd>about {spanOf(path.length)}</dd>
              <dt>Loss</dt>
              <dd>{path.loss?.length ? <b>{path.loss.join('; ')}</b> : 'nothing is lost'}</dd>
            </>
          ) : (
            <>
              <dt>Return path</dt>
              <dd>
                <b>Closed: {path.why?.join('; ')}</b>
              </dd>
            </>
          )}
        </dl>
      )}
    </Confirm>
  );
}
