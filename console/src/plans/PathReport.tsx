import { Panel } from '../parts/Panel';
import { State } from '../parts/State';
import type { Path } from '../shared/shapes';
import { many, span } from '../shared/times';
import { stripOfPath } from './model';
import { StripChart } from './StripChart';

/** A path found, or why there is none: the strip, what it costs, what it beat, and why each component moves. */
export function PathReport({ path }: { path: Path }) {
  if (path.alreadyMet) return <p role="status">The goal is met already; there is nothing to do.</p>;
  if (!path.found)
    return (
      <section role="status" className="panel panel-ask" aria-label="no path">
        <h2>
          <State of="closed">{path.proved ? 'There is no path.' : 'No path was found before the search was cut off.'}</State>
        </h2>
        <table className="lines">
          <thead>
            <tr>
              <th>What stands in the way</th>
              <th>What would open it</th>
            </tr>
          </thead>
          <tbody>
            {path.reasons.map((r) => (
              <tr key={r.what}>
                <td>
                  <span className="soft">{r.kind}:</span> {r.what}
                </td>
                <td>{r.opens}</td>
              </tr>
            ))}
          </tbody>
        </table>
        {path.nearest.length > 0 && (
          <p>Nearest state that can be reached: {path.nearest.map((n) => `${n.component} at ${n.version}`).join(', ')}.</p>
        )}
      </section>
    );
  const total = path.moves.reduce((sum, m) => sum + m.minutes, 0);
  const outage = path.moves.reduce((sum, m) => sum + m.outageMinutes, 0);
  return (
    <Panel
      label="path"
      title={
        <span role="status">
          {many(path.moves.length, 'move')}, {span(total * 60)}, {outage === 0 ? 'no outage' : many(Math.round(outage), 'outage minute')};{' '}
          {path.proved ? 'proved best' : 'not proved best'}
        </span>
      }
    >
      <StripChart strip={stripOfPath(path)} />
      {path.notes.length > 0 && (
        <ul className="close warn">
          {path.notes.map((note) => (
            <li key={note}>{note}</li>
          ))}
        </ul>
      )}
      {path.driven.length > 0 && (
        <details>
          <summary>Why {path.driven.length} components move that the goal does not name</summary>
          <ul className="close">
            {path.driven.map((d) => (
              <li key={d.component}>
                <b>{d.component}</b>: {d.because.join('; ') || 'so the path is better by the criteria'}
              </li>
            ))}
          </ul>
        </details>
      )}
      <details>
        <summary>
          {path.alternatives.length === 0
            ? 'No other order of the criteria gives another path'
            : `Paths it beat: ${String(path.alternatives.length)}`}
        </summary>
        <ul className="close">
          {path.alternatives.map((a) => (
            <li key={a.first}>
              {a.first === 'loses' ? (
                'Without loss of data'
              ) : (
                <>
                  With <b>{a.first}</b> first
                </>
              )}
              : {a.differences.join('; ')}. <span className="soft">{a.moves.join('  ')}</span>
            </li>
          ))}
        </ul>
      </details>
    </Panel>
  );
}
