import { Button, Select, TextInput } from '@mantine/core';
import { useState } from 'react';
import { Confirm } from '../parts/Confirm';
import { Lines, type Column } from '../parts/Lines';
import { Trouble } from '../parts/Loaded';
import { Fact, Facts, PageHead, Panel } from '../parts/Panel';
import { Prose } from '../parts/Prose';
import { Share } from '../parts/Share';
import { State, states } from '../parts/State';
import { When } from '../parts/When';
import { StripChart } from '../plans/StripChart';
import { Field } from '../runs/Field';
import '../plans/plans.css';
import '../runs/run.css';
import { lines, run, soon, strip, type Line } from './samples';

const columns: Column<Line>[] = [
  { id: 'member', head: 'Member', value: (l) => l.member },
  { id: 'state', head: 'State', value: (l) => l.state, cell: (l) => <State of={l.state} /> },
  { id: 'steps', head: 'Steps', value: (l) => l.steps, right: true },
  { id: 'note', head: 'Note', value: (l) => l.note, spare: true },
];

/** Every part that pages are made of, with made-up things in it. Only where the console is developed. */
export function GalleryPage() {
  const [asking, setAsking] = useState(false);
  return (
    <>
      <PageHead title="Parts" actions={<Button onClick={() => setAsking(true)}>Ask before acting …</Button>}>
        <span className="soft">what pages are made of</span>
      </PageHead>
      <div className="wide-left">
        <div className="stack">
          <Panel label="strip" title="Path, as a strip">
            <StripChart strip={strip} />
          </Panel>
          <Panel label="field" title="Field of marks">
            <Field run={run} chosen={2} onChoose={() => undefined} />
          </Panel>
          <Panel label="lines" title="Table">
            <Lines name="parts" rows={lines} columns={columns} keyOf={(l) => l.member} empty="Nothing is there." />
          </Panel>
          <Panel label="empty table" title="Table without rows">
            <Lines name="none" rows={[]} columns={columns} keyOf={(l: Line) => l.member} empty="No member is out of line." />
          </Panel>
        </div>
        <div className="stack">
          <Panel label="states" title="States">
            <ul className="plain" style={{ columns: 2 }}>
              {states.map((s) => (
                <li key={s}>
                  <State of={s} />
                </li>
              ))}
            </ul>
          </Panel>
          <Panel label="alarm" tone="alarm" title={<State of="halted">Halted</State>}>
            What failed stands here, with what it printed last.
          </Panel>
          <Panel label="ask" tone="ask" title={<State of="waiting">A person is waited for</State>}>
            What is to be done, and by whom.
          </Panel>
          <Panel label="facts" title="Facts">
            <Facts>
              <Fact name="Forecast end">
                <When at={soon} />
              </Fact>
              <Fact name="Steps done">
                <Share of={0.4} />
              </Fact>
              <Fact name="Out of service">2 of 7</Fact>
            </Facts>
          </Panel>
          <Panel label="fields" title="Fields and buttons">
            <div className="stack-small">
              <TextInput label="Reason" placeholder="why" />
              <TextInput label="Limit" defaultValue="2 hrs" error="'2 hrs' is no length of time. Write it like 2 h." />
              <Select label="As far as" data={['the start', 'move 2']} defaultValue="the start" />
              <span style={{ display: 'flex', gap: '0.5rem' }}>
                <Button>Start</Button>
                <Button variant="default">Hold</Button>
                <Button variant="subtle">Older ones</Button>
                <Button disabled>Not now</Button>
              </span>
            </div>
          </Panel>
          <Panel label="trouble" title="What went wrong">
            <Trouble of={new Error('the service can not be reached; what is shown is as it was')} />
          </Panel>
          <Panel label="prose" title="Prose">
            <Prose text={'A *word*, a `command`, and a list:\n\n- one\n- another'} />
          </Panel>
        </div>
      </div>
      {asking && (
        <Confirm
          call="POST /api/runs/{run}/decisions"
          title="Return as far as the start"
          act="Return"
          danger
          reason={{ label: 'Reason, for the report', needed: true, hint: 'It stands in the report beside your name.' }}
          pending={false}
          error={null}
          onAct={() => setAsking(false)}
          onClose={() => setAsking(false)}
        >
          <p>Three members are led back to 3.1; it takes about 14 min, and what was written since is lost.</p>
        </Confirm>
      )}
    </>
  );
}
