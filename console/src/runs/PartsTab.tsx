import { useEffect, useRef } from 'react';
import { Panel } from '../parts/Panel';
import { State } from '../parts/State';
import type { Run } from '../shared/shapes';
import { clock, seconds, span, spanOf } from '../shared/times';
import { words } from '../shared/words';

/** Every part of a run: how it stands, what it took or takes, and the return path after it. */
export function PartsTab({ run, onPart }: { run: Run; onPart: (block: number) => void }) {
  const box = useRef<HTMLDivElement>(null);
  useEffect(() => {
    // The part at work stays in sight; only the list scrolls, never the page.
    const row = box.current?.querySelector<HTMLElement>('tr[aria-current="true"]');
    if (row && box.current) box.current.scrollTop = row.offsetTop - box.current.clientHeight / 3;
  }, [run.currentBlock]);
  return (
    <Panel label="parts">
      <div
        ref={box}
        className="lines-scroll"
        style={{ maxHeight: '56vh', position: 'relative' }}
        tabIndex={0}
        role="region"
        aria-label="list of parts"
      >
        <table className="lines">
          <thead>
            <tr>
              <th className="n">Part</th>
              <th>What</th>
              <th>State</th>
              <th className="n">Began</th>
              <th className="n">Took, or takes</th>
              <th className="n">Members</th>
              <th>Return path after it</th>
            </tr>
          </thead>
          <tbody>
            {run.blocks.map((b) => (
              <tr
                key={b.number}
                aria-current={b.number === run.currentBlock || undefined}
                className="opens"
                onClick={() => onPart(b.number)}
              >
                <td className="n">{b.number}</td>
                <td>
                  <button type="button" className="bare as-link" onClick={() => onPart(b.number)}>
                    {b.title}
                  </button>
                </td>
                <td>
                  <State of={b.status}>{b.status}</State>
                </td>
                <td className="n">{b.begun && clock(b.begun)}</td>
                <td className="n">
                  {b.begun
                    ? span((Date.parse(b.ended ?? run.lastAt) - Date.parse(b.begun)) / 1000)
                    : span(seconds(b.expected) + seconds(b.settle))}
                </td>
                <td className="n">{b.members || ''}</td>
                <td title={b.return.why}>
                  <State of={b.return.state}>
                    {words(b.return.state)}
                    {seconds(b.return.length) > 0 && `, ${spanOf(b.return.length)}`}
                  </State>
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      </div>
    </Panel>
  );
}
