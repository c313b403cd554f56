import { span } from '../shared/words';
import { stripOfPath, type Path } from './model';
import { StripChart } from './StripChart';

/** A path found, or why there is none: the strip, what it costs, what it beat, and why each component moves. */
export function PathReport({ path }: { path: Path }) {
  if (path.alreadyMet) return <p role="status">The goal is met already; there is nothing to do.</p>;
  if (!path.found)
    return (
      <section role="status" className="halt" aria-label="no path">
        <strong>{path.proved ? 'There is no path.' : 'No path was found before the search was cut off.'}</strong>
        <dl>
          {path.reasons.map((r) => (
            <div key={r.what}>
              <dt>
                {r.kind}: {r.what}
              </dt>
              <dd>{r.opens}</dd>
            </div>
          ))}
        </dl>
        {path.nearest.length > 0 && (
          <p>Nearest state that can be reached: {path.nearest.map((n) => `${n.component} at ${n.version}`).join(', ')}.</p>
        )}
      </section>
    );
  const total = path.moves.reduce((sum, m) => sum + m.minutes, 0);
  const outage = path.moves.reduce((sum, m) => sum + m.outageMinutes, 0);
  return (
    <section aria-label="path">
      <p role="status">
        <strong>
          {path.moves.length} moves, {span(total * 60)}, {outage === 0 ? 'no outage' : `${String(Math.round(outage))} outage minutes`};{' '}
          {path.proved ? 'proved best' : 'not proved best'}.
        </strong>
      </p>
      <StripChart strip={stripOfPath(path)} />
      {path.notes.length > 0 && (
        <ul className="notes state-with-loss">
          {path.notes.map((note) => (
            <li key={note}>{note}</li>
          ))}
        </ul>
      )}
      {path.driven.length > 0 && (
        <details>
          <summary>Why {path.driven.length} components move that the goal does not name</summary>
          <ul>
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
        <ul>
          {path.alternatives.map((a) => (
            <li key={a.first}>
              {a.first === 'loses' ? (
                'Without loss of data'
              ) : (
                <>
                  With <b>{a.first}</b> first
                </>
              )}
              : {a.differences.join('; ')}. <span className="figures soft">{a.moves.join('  ')}</span>
            </li>
          ))}
        </ul>
      </details>
    </section>
  );
}
