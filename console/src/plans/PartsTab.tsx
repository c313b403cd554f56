import { Button, Drawer } from '@mantine/core';
import { useState } from 'react';
import { Panel } from '../parts/Panel';
import { State } from '../parts/State';
import type { Plan, Shapes } from '../shared/shapes';
import { hour, many, seconds, span, spanOf, weekday } from '../shared/times';
import { words } from '../shared/words';
import { ReturnFrom } from './ReturnFrom';

type Block = Shapes['Block'];

/** The parts of a plan, folded by move; a move opens to its parts, a part to its steps, each with the return path behind it. */
export function PartsTab({ digest, plan }: { digest: string; plan: Plan }) {
  const [open, setOpen] = useState<number[]>(plan.moves.length <= 3 ? plan.moves.map((m) => m.number) : []);
  const [from, setFrom] = useState<number>();
  const [steps, setSteps] = useState<Block>();
  const timed = plan.windows.length > 0;
  const all = open.length >= plan.moves.length;
  return (
    <Panel
      label="parts"
      title="Parts by move"
      actions={
        <Button variant="subtle" size="compact-sm" onClick={() => setOpen(all ? [] : plan.moves.map((m) => m.number))}>
          {all ? 'Fold all' : 'Open all'}
        </Button>
      }
    >
      <table className="lines parts">
        <thead>
          <tr>
            <th>Part</th>
            {timed && <th className="n">Begins</th>}
            <th className="n">Takes</th>
            <th>Return path after it</th>
            {timed && <th className="n">Turn back by</th>}
            <th>Out of service</th>
          </tr>
        </thead>
        <tbody>
          {plan.moves.map((m) => {
            const blocks = plan.blocks.filter((b) => b.move === m.number);
            const unfolded = open.includes(m.number);
            const last = blocks.at(-1);
            const night = plan.windows.length > 1 ? plan.windows.find((w) => w.firstMove === m.number) : undefined;
            return [
              night && (
                <tr key={`window ${night.from}`} className="night">
                  <th colSpan={6} scope="colgroup">
                    {weekday(night.from)}, {hour(night.from)} to {hour(night.to)}
                  </th>
                </tr>
              ),
              <tr key={`move ${String(m.number)}`} className="move">
                <td>
                  <button
                    type="button"
                    className="bare"
                    aria-expanded={unfolded}
                    onClick={() => setOpen(unfolded ? open.filter((o) => o !== m.number) : [...open, m.number])}
                  >
                    <span aria-hidden="true">{unfolded ? '▾' : '▸'}</span> <b>{m.number}</b>{' '}
                    {m.jumps.length > 1
                      ? m.jumps.map((j) => `${j.component} ${j.from} to ${j.to}`).join(' with ')
                      : `${m.component} ${m.from} to ${m.to}`}{' '}
                    <span className="soft">
                      {words(m.method)}, {many(m.waves, 'wave')}, {many(blocks.length, 'part')}
                    </span>
                  </button>
                </td>
                {timed && <td className="n">{blocks[0]?.begins && hour(blocks[0].begins)}</td>}
                <td className="n">{span(blocks.reduce((n, b) => n + seconds(b.expected) + seconds(b.settle), 0))}</td>
                <td>{last && <State of={last.return.state} />}</td>
                {timed && <td />}
                <td>{m.out.length > 0 ? <b>{m.out.join(', ')}</b> : <span className="soft">nothing as a whole</span>}</td>
              </tr>,
              ...(unfolded
                ? blocks.map((b) => (
                    <Part key={b.number} block={b} timed={timed} upgrade={plan.kind === 'upgrade'} onReturn={setFrom} onSteps={setSteps} />
                  ))
                : []),
            ];
          })}
        </tbody>
      </table>
      <ReturnFrom
        digest={digest}
        part={from}
        title={plan.blocks.find((b) => b.number === from)?.title}
        onClose={() => setFrom(undefined)}
      />
      <Drawer
        opened={steps !== undefined}
        onClose={() => setSteps(undefined)}
        title={steps && `Part ${String(steps.number)}, ${steps.title}`}
        closeButtonProps={{ 'aria-label': 'close' }}
      >
        {steps && <Steps block={steps} />}
      </Drawer>
    </Panel>
  );
}

function Part({
  block: b,
  timed,
  upgrade,
  onReturn,
  onSteps,
}: {
  block: Block;
  timed: boolean;
  upgrade: boolean;
  onReturn: (part: number) => void;
  onSteps: (block: Block) => void;
}) {
  const told = `${words(b.return.state)}${seconds(b.return.length) > 0 ? `, ${spanOf(b.return.length)}` : ''}`;
  return (
    <tr className={b.restsAfter ? 'part rests' : 'part'}>
      <td>
        <span className="soft">{b.number}</span>{' '}
        <button type="button" className="bare as-link" onClick={() => onSteps(b)}>
          {b.title}
        </button>
        {b.restsAfter && <span className="soft"> then a resting place</span>}
      </td>
      {timed && <td className="n">{b.begins && hour(b.begins)}</td>}
      <td className="n">{span(seconds(b.expected) + seconds(b.settle))}</td>
      <td>
        {upgrade && seconds(b.return.length) > 0 ? (
          <button
            type="button"
            className="bare"
            aria-label={`${told}: return path after part ${String(b.number)}`}
            onClick={() => onReturn(b.number)}
          >
            <State of={b.return.state}>
              <span className="as-link">{told}</span>
            </State>
          </button>
        ) : (
          <State of={b.return.state} />
        )}
      </td>
      {timed && <td className="n">{b.turnBack && hour(b.turnBack)}</td>}
      <td>
        {b.componentsOut.length > 0 && <b>{b.componentsOut.join(', ')}. </b>}
        {b.stillServing.length > 0 && <span className="soft">serves on: {b.stillServing.join(', ')}</span>}
      </td>
    </tr>
  );
}

/** The steps of a part, member by member. */
function Steps({ block }: { block: Block }) {
  return (
    <table className="lines">
      <thead>
        <tr>
          <th>Member</th>
          <th>Step</th>
          <th className="n">Takes</th>
          <th>To be known</th>
        </tr>
      </thead>
      <tbody>
        {block.lanes.flatMap((l) =>
          l.steps.map((s) => (
            <tr key={s.id}>
              <td>{s.member}</td>
              <td>{s.title}</td>
              <td className="n">{spanOf(s.expected)}</td>
              <td>
                {s.impact}
                {s.owner && ` done by ${s.owner}`}
                {s.closes && <b> closes the return path</b>}
              </td>
            </tr>
          )),
        )}
      </tbody>
    </table>
  );
}
