import { Button, Drawer, Select } from '@mantine/core';
import { useState } from 'react';
import { Panel } from '../parts/Panel';
import { State } from '../parts/State';
import type { Block, Lane, Plan, Run, Step } from '../shared/shapes';
import { clock, seconds, span, spanOf } from '../shared/times';
import { words } from '../shared/words';
import { Field } from './Field';
import { doing, next, waitsForPerson } from './members';
import { OutputView } from './OutputView';

interface Props {
  run: Run;
  plan?: Plan;
  block: Block;
  now: number;
  onPart: (block: number | undefined) => void;
  onMore: () => void;
}

/** Who is at work: all members as marks, wave by wave, and those of one part with what each is doing. */
export function MembersTab({ run, plan, block, now, onPart, onMore }: Props) {
  const [open, setOpen] = useState<string>();
  const lane = block.lanes.find((l) => l.subject === open);
  return (
    <div className="members-tab">
      <Panel label="waves" title="Waves" className="waves">
        <Field run={run} plan={plan} chosen={block.number} onChoose={(b) => onPart(b === run.currentBlock ? undefined : b)} />
        <Legend />
      </Panel>
      <Panel
        label="members"
        title={
          <>
            {block.title} <State of={block.status}>{block.status}</State>
            {seconds(block.settle) > 0 && !['settling', 'done', 'failed'].includes(block.status) && (
              <span className="soft"> then {spanOf(block.settle)} to settle</span>
            )}
          </>
        }
        actions={
          <>
            <Select
              aria-label="part"
              w={260}
              data={run.blocks.map((b) => ({ value: String(b.number), label: `Part ${String(b.number)}: ${b.title}` }))}
              value={String(block.number)}
              searchable
              onChange={(v) => onPart(Number(v) === run.currentBlock ? undefined : Number(v))}
            />
            {run.currentBlock > 0 && block.number !== run.currentBlock && (
              <Button variant="default" size="compact-sm" onClick={() => onPart(undefined)}>
                To the part at work
              </Button>
            )}
          </>
        }
      >
        {block.componentsOut.length > 0 && <p>Out of service with it: {block.componentsOut.join(', ')}.</p>}
        <div className="lines-scroll" style={{ maxHeight: '40vh' }} tabIndex={0} role="region" aria-label="list of members">
          <table className="lines">
            <thead>
              <tr>
                <th>Member</th>
                <th>State</th>
                <th>Step</th>
                <th className="n">Since</th>
                <th className="n">Steps</th>
              </tr>
            </thead>
            <tbody>
              {block.lanes.map((l) => (
                <MemberRow key={l.subject} lane={l} now={now} onOpen={() => setOpen(l.subject)} />
              ))}
            </tbody>
          </table>
          {block.lanes.length === 0 && <p className="soft">This part has no steps on members.</p>}
          {block.lanes.length > 0 && block.lanes.length < block.members && (
            <p>
              {block.lanes.length} of {block.members} members are shown, those that failed or are at work before others.{' '}
              <Button variant="subtle" size="compact-sm" onClick={onMore}>
                Show more
              </Button>
            </p>
          )}
        </div>
      </Panel>
      <Drawer
        opened={lane !== undefined}
        onClose={() => setOpen(undefined)}
        title={lane?.subject}
        closeButtonProps={{ 'aria-label': 'close' }}
      >
        {lane && <Steps run={run.run} lane={lane} now={now} />}
      </Drawer>
    </div>
  );
}

const marks = [
  ['done', 'M0 0h10v10h-10Z', 'on the new version'],
  ['working', 'M0 10h10v-10Z', 'at work'],
  ['person', 'M1 5a4 4 0 1 0 8 0a4 4 0 1 0 -8 0Z', 'waits for a person'],
  ['failed', 'M0 0l10 10M10 0l-10 10', 'failed'],
  ['ahead', 'M0.5 0.5h9v9h-9Z', 'ahead'],
] as const;

function Legend() {
  return (
    <p className="soft legend">
      {marks.map(([mark, path, means]) => (
        <span key={mark} className="nowrap">
          <svg width="11" height="11" aria-hidden="true">
            <path className={`mark-${mark}`} d={path} />
          </svg>{' '}
          {means}{' '}
        </span>
      ))}
    </p>
  );
}

function MemberRow({ lane, now, onOpen }: { lane: Lane; now: number; onOpen: () => void }) {
  const step = doing(lane);
  const after = next(lane);
  const done = lane.steps.filter((s) => s.status === 'done').length;
  return (
    <tr className="opens" onClick={onOpen}>
      <td>
        <button type="button" className="bare as-link" onClick={onOpen}>
          {lane.subject}
        </button>
      </td>
      <td>
        {waitsForPerson(lane) ? (
          <State of="waiting">waits for a person</State>
        ) : (
          <State of={step?.status === 'failed' ? 'failed' : (lane.state ?? 'ahead')}>{words(lane.state ?? 'waits')}</State>
        )}
      </td>
      <td>
        {step?.title ?? <span className="soft">{after && `next: ${after.title}`}</span>}
        {step?.overdue && <span className="warn"> overdue, still followed</span>}
        {step?.milestones && step.status === 'working' && <Milestones step={step} now={now} />}
        {step?.why && <div className="problem">{step.why}</div>}
      </td>
      <td className="n">{step?.begun && since(step, now)}</td>
      <td className="n">{`${String(done)} of ${String(lane.steps.length)}`}</td>
    </tr>
  );
}

const since = (step: Step, now: number) =>
  step.status === 'working'
    ? `${span(Math.max(0, (now - Date.parse(step.begun ?? '')) / 1000))} of ${spanOf(step.expected)}`
    : clock(step.ended ?? step.begun ?? '');

function Milestones({ step, now }: { step: Step; now: number }) {
  const parts = step.milestones ?? [];
  return (
    <ol className="close milestones" aria-label={`parts of ${step.title}`}>
      {parts.map((p, i) => {
        const over = parts[i + 1]?.begun !== undefined;
        const takes = typeof p.takes === 'string' ? p.takes : undefined;
        return (
          <li key={p.title} aria-current={p.begun && !over ? 'step' : undefined}>
            {p.title}
            {p.begun && !over && `, ${span(Math.max(0, (now - Date.parse(p.begun)) / 1000))}`}
            {takes && !over && `${p.begun ? ' of' : ', takes'} ${spanOf(takes)}`}
            {over && ', done'}
          </li>
        );
      })}
    </ol>
  );
}

/** The steps of one member: each with its state, times and what it printed. */
function Steps({ run, lane, now }: { run: string; lane: Lane; now: number }) {
  const last = lane.steps.findLast((s) => s.attempt)?.id;
  const [shown, setShown] = useState<string>();
  const step = lane.steps.find((s) => s.id === (shown ?? last));
  return (
    <>
      <table className="lines">
        <thead>
          <tr>
            <th>Step</th>
            <th>State</th>
            <th className="n">Took, or takes</th>
            <th className="n">Attempts</th>
          </tr>
        </thead>
        <tbody>
          {lane.steps.map((s) => (
            <tr key={s.id} aria-current={s.id === step?.id || undefined}>
              <td>
                {s.attempt ? (
                  <button type="button" className="bare as-link" onClick={() => setShown(s.id)}>
                    {s.title}
                  </button>
                ) : (
                  s.title
                )}
                {s.why && <div className="problem">{s.why}</div>}
              </td>
              <td>
                <State of={s.status === 'pending' ? 'ahead' : s.status}>{s.how && s.how !== 'done' ? words(s.how) : undefined}</State>
              </td>
              <td className="n">
                {s.begun && s.ended
                  ? span((Date.parse(s.ended) - Date.parse(s.begun)) / 1000)
                  : s.begun
                    ? since(s, now)
                    : spanOf(s.expected)}
              </td>
              <td className="n">{s.attempts || ''}</td>
            </tr>
          ))}
        </tbody>
      </table>
      {step?.attempt && (
        <section aria-label="output" style={{ marginTop: '0.9rem' }}>
          <h3>
            {step.title} <span className="id">{step.attempt}</span>
          </h3>
          <OutputView
            key={step.attempt}
            run={run}
            attempt={step.attempt}
            name={`${step.title}, ${lane.subject}`}
            live={step.status === 'working'}
          />
        </section>
      )}
    </>
  );
}
