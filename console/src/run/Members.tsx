import type { Block, Lane, Step } from '../shared/api';
import { clock, mark, seconds, span, words } from '../shared/words';

const doing = (lane: Lane): Step | undefined =>
  lane.steps.find((s) => s.status === 'working' || s.status === 'failed') ?? lane.steps.findLast((s) => s.status === 'done');

/** The members of a part: what each is, what it is doing, and since when. */
export function Members({
  block,
  now,
  onMore,
  onOutput,
  onSign,
}: {
  block: Block;
  now: number;
  onMore: () => void;
  onOutput: (attempt: string, title: string) => void;
  onSign: (step: Step) => void;
}) {
  return (
    <section className="sheet" aria-label="members">
      <h2>
        {block.title}: {block.status}
        {seconds(block.settle) > 0 &&
          !['settling', 'done', 'failed'].includes(block.status) &&
          `, then ${span(seconds(block.settle))} to settle`}
      </h2>
      {block.componentsOut.length > 0 && <p>Out of service with it: {block.componentsOut.join(', ')}.</p>}
      <table>
        <thead>
          <tr>
            <th>member</th>
            <th>is</th>
            <th>step</th>
            <th>since</th>
            <th>steps</th>
            <th>output</th>
          </tr>
        </thead>
        <tbody>
          {block.lanes.map((lane) => {
            const step = doing(lane);
            const done = lane.steps.filter((s) => s.status === 'done').length;
            return (
              <tr key={lane.subject}>
                <td className="n">{lane.subject}</td>
                <td className={`state-${lane.state ?? 'ahead'}`}>
                  <span className="mark" aria-hidden="true">
                    {mark(step?.status ?? 'pending')}
                  </span>
                  {words(lane.state ?? 'waits')}
                </td>
                <td>
                  {step?.title}
                  {step?.overdue && ' (overdue, still followed)'}
                  {step?.milestones && step.status === 'working' && (
                    <ol className="milestones" aria-label={`parts of ${step.title}`}>
                      {step.milestones.map((p, i) => {
                        const over = step.milestones?.[i + 1]?.begun !== undefined;
                        return (
                          <li key={p.title} aria-current={p.begun && !over ? 'step' : undefined}>
                            {p.title}
                            {p.begun && !over && `, ${span(Math.max(0, (now - Date.parse(p.begun)) / 1000))}`}
                            {p.takes && !over && `${p.begun ? ' of' : ', takes'} ${span(seconds(p.takes))}`}
                            {over && ', done'}
                          </li>
                        );
                      })}
                    </ol>
                  )}
                  {step?.why && <div className="problem">{step.why}</div>}
                  {step?.person && step.status === 'working' && (
                    <button type="button" onClick={() => onSign(step)}>
                      Sign that it is done
                    </button>
                  )}
                </td>
                <td className="n">
                  {step?.begun &&
                    (step.status === 'working'
                      ? span(Math.max(0, (now - Date.parse(step.begun)) / 1000))
                      : clock(step.ended ?? step.begun))}
                </td>
                <td className="n">{`${String(done)}/${String(lane.steps.length)}`}</td>
                <td>
                  {lane.steps
                    .filter((s) => s.attempt)
                    .slice(-1)
                    .map((s) => (
                      <button type="button" key={s.id} onClick={() => onOutput(s.attempt ?? '', `${s.title}, ${lane.subject}`)}>
                        {s.title}
                      </button>
                    ))}
                </td>
              </tr>
            );
          })}
        </tbody>
      </table>
      {block.lanes.length > 0 && block.lanes.length < block.members && (
        <p>
          {block.lanes.length} of {block.members} members are shown, those that failed or are at work before others.{' '}
          <button type="button" onClick={onMore}>
            Show more
          </button>
        </p>
      )}
    </section>
  );
}
