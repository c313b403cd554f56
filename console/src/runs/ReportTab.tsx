import { Button } from '@mantine/core';
import { useQuery } from '@tanstack/react-query';
import { Loaded } from '../parts/Loaded';
import { Fact, Facts, Panel } from '../parts/Panel';
import { csvOf } from '../parts/csv';
import { When } from '../parts/When';
import { api, told } from '../shared/client';
import { save } from '../shared/files';
import type { Run, Shapes } from '../shared/shapes';
import { day, fully, size, spanOf } from '../shared/times';
import { words } from '../shared/words';

/** The closing report as a page that can be printed, and as Markdown, CSV and JSON. */
export function ReportTab({ run }: { run: Run }) {
  const report = useQuery({
    queryKey: ['report', run.run, run.ended],
    queryFn: () => told(api.GET('/api/runs/{run}/report', { params: { path: { run: run.run } } })),
  });
  return (
    <Loaded query={report} what="the report">
      {(r) => (
        <Panel
          label="report"
          className="report"
          actions={
            <span className="no-print" style={{ display: 'flex', gap: '0.4rem' }}>
              <Button variant="default" onClick={() => globalThis.print()}>
                Print
              </Button>
              <Button component="a" variant="default" href={`/api/runs/${r.run}/report?format=markdown`} download={`report-${r.run}.md`}>
                Markdown
              </Button>
              <Button variant="default" onClick={() => save(`report-${r.run}.csv`, csvOf(r.members.map((m) => ({ ...m }))), 'text/csv')}>
                CSV
              </Button>
              <Button variant="default" onClick={() => save(`report-${r.run}.json`, JSON.stringify(r, null, 2), 'application/json')}>
                JSON
              </Button>
            </span>
          }
          title={`Report of ${r.label || r.run}`}
        >
          <Report of={r} />
        </Panel>
      )}
    </Loaded>
  );
}

function Report({ of: r }: { of: Shapes['RunReport'] }) {
  const changed = r.members.filter((m) => m.before !== m.after);
  return (
    <>
      <Facts>
        <Fact name="End">{words(r.end)}</Fact>
        <Fact name="Estate">{r.estate}</Fact>
        <Fact name="Opened by">{r.openedBy}</Fact>
        {r.started && (
          <Fact name="Started" title={fully(r.started)}>
            <When at={r.started} />
          </Fact>
        )}
        {r.ended && (
          <Fact name="Ended" title={fully(r.ended)}>
            <When at={r.ended} />
          </Fact>
        )}
        <Fact name="Planned">{spanOf(r.planned)}</Fact>
        {r.took && <Fact name="Took">{spanOf(r.took)}</Fact>}
        <Fact name="Members changed">
          {changed.length} of {r.members.length}
        </Fact>
      </Facts>
      <p>
        <b>Goal:</b> {r.goal.join('; ')}
      </p>
      <div className="halves">
        <div>
          <h3>What happened</h3>
          <table className="lines">
            <tbody>
              {r.marks.map((m, i) => (
                <tr key={`${m.at} ${String(i)}`}>
                  <td className="nowrap">
                    <When at={m.at} />
                  </td>
                  <td>{m.what}</td>
                </tr>
              ))}
            </tbody>
          </table>
        </div>
        <div>
          <h3>Members</h3>
          <table className="lines">
            <thead>
              <tr>
                <th>Member</th>
                <th>Before</th>
                <th>After</th>
              </tr>
            </thead>
            <tbody>
              {(changed.length > 0 ? changed : r.members).slice(0, 400).map((m) => (
                <tr key={m.member}>
                  <td>{m.member}</td>
                  <td>{m.before}</td>
                  <td>{m.after}</td>
                </tr>
              ))}
            </tbody>
          </table>
        </div>
      </div>
      <h3>Parts</h3>
      <table className="lines">
        <thead>
          <tr>
            <th className="n">Part</th>
            <th>What</th>
            <th className="n">Planned</th>
            <th className="n">Took</th>
          </tr>
        </thead>
        <tbody>
          {r.blocks.map((b) => (
            <tr key={b.block}>
              <td className="n">{b.block}</td>
              <td>{b.title}</td>
              <td className="n">{spanOf(b.planned)}</td>
              <td className="n">{b.took ? spanOf(b.took) : 'not done'}</td>
            </tr>
          ))}
        </tbody>
      </table>
      <Rest of={r} />
    </>
  );
}

function Rest({ of: r }: { of: Shapes['RunReport'] }) {
  return (
    <div className="halves">
      <div>
        {r.points.length > 0 && (
          <>
            <h3>Rollback points</h3>
            <ul className="close">
              {r.points.map((p) => (
                <li key={p.planned.id}>
                  {p.planned.member}, back to {p.planned.version}, {size(p.bytes)}
                  {p.state && `, ${p.state}`}
                </li>
              ))}
            </ul>
          </>
        )}
        {r.answers.length > 0 && (
          <>
            <h3>Answers before and after</h3>
            <ul className="close">
              {r.answers.map((a) => (
                <li key={a.member + a.ask}>
                  {a.member}, {a.ask}: {a.what}
                </li>
              ))}
            </ul>
          </>
        )}
      </div>
      <div>
        {r.openMeasures.length > 0 && (
          <>
            <h3>Temporary measures open</h3>
            <ul className="close">
              {r.openMeasures.map((m) => (
                <li key={m}>{m}</li>
              ))}
            </ul>
          </>
        )}
        {r.followUps.length > 0 && (
          <>
            <h3>Left to be done</h3>
            <ul className="close">
              {r.followUps.map((f) => (
                <li key={f.id}>
                  {f.what} ({f.about}), {f.owner ?? 'nobody’s yet'}, until {day(f.due)}
                </li>
              ))}
            </ul>
          </>
        )}
        {r.next.length > 0 && (
          <section aria-label="what comes next">
            <h3>What comes next</h3>
            <ul className="close">
              {r.next.map((n) => (
                <li key={n.component}>
                  {n.component} {n.runs} to {n.to} <span className="soft">({n.why})</span>
                </li>
              ))}
            </ul>
          </section>
        )}
      </div>
    </div>
  );
}
