import type { Run } from '../shared/shapes';
import { clock, hour, seconds } from '../shared/times';

const width = 1240;
const height = 170;
const left = 44;
const right = 12;
const top = 14;
const floor = 138;

interface Mark {
  at: number;
  share: number;
}

/** When each member of a wave was back on its new version: the actual line, as shares of all members of all moves. */
export function arrivals(run: Run): Mark[] {
  const total = run.tide.reduce((sum, t) => sum + t.old + t.new, 0);
  return total === 0 ? [] : run.arrivals.map((a) => ({ at: Date.parse(a.at), share: a.members / total }));
}

/** What the plan expects, block by block, stretched to the span from the start to the forecast end. */
export function planned(run: Run, start: number, end: number): Mark[] {
  const total = run.tide.reduce((sum, t) => sum + t.old + t.new, 0);
  const whole = run.blocks.reduce((sum, b) => sum + seconds(b.expected) + seconds(b.settle), 0);
  if (total === 0 || whole === 0) return [];
  let after = 0;
  let arrived = 0;
  return run.blocks.map((b) => {
    after += seconds(b.expected) + seconds(b.settle);
    if (b.phase === 'roll') arrived += b.members;
    return { at: start + ((end - start) * after) / whole, share: arrived / total };
  });
}

/** The tide line: the share of members on their new versions over the time of the run, with waves, rollback points and the point of no return. */
export function TideLine({ run }: { run: Run }) {
  if (!run.started) return null;
  const start = Date.parse(run.started);
  const now = Date.parse(run.ended ?? run.lastAt);
  const end = Math.max(now, Date.parse(run.ended ?? run.forecastEnd ?? run.lastAt), start + 1000);
  const x = (at: number) => left + ((at - start) / (end - start)) * (width - left - right);
  const y = (share: number) => floor - share * (floor - top);
  const steps = (marks: Mark[], until: number) =>
    [
      `M ${String(x(start))} ${String(y(0))}`,
      ...marks.map((m) => `H ${x(m.at).toFixed(1)} V ${y(m.share).toFixed(1)}`),
      `H ${x(until).toFixed(1)}`,
    ].join(' ');
  const came = arrivals(run);
  const closes = run.blocks.find((b) => b.return.state === 'closed');
  const plan = planned(run, start, end);
  const turn = closes ? (closes.begun ? Date.parse(closes.begun) : plan[run.blocks.indexOf(closes) - 1]?.at) : undefined;
  const total = run.tide.reduce((sum, t) => sum + t.old + t.new, 0);
  const middle = start + (end - start) / 2;
  return (
    <svg
      className="tide-line"
      viewBox={`0 0 ${String(width)} ${String(height)}`}
      role="img"
      aria-label={`Tide line: ${String(run.arrivals.at(-1)?.members ?? 0)} of ${String(total)} members are on their new version`}
    >
      {run.blocks
        .filter((b) => b.begun)
        .map((b) => (
          <line key={b.number} className="wave" x1={x(Date.parse(b.begun ?? ''))} x2={x(Date.parse(b.begun ?? ''))} y1={top} y2={floor} />
        ))}
      <path className="filled" d={`${steps(came, now)} V ${String(y(0))} Z`} />
      <path className="planned" d={steps(plan, end)} />
      <path className="actual" d={steps(came, now)} />
      <line className="axis" x1={left} x2={width - right} y1={floor} y2={floor} />
      <line className="axis" x1={x(now)} x2={x(now)} y1={top} y2={floor + 5} />
      {turn !== undefined && <line className="turn" x1={x(turn)} x2={x(turn)} y1={top - 8} y2={floor} />}
      {turn !== undefined && (
        <text x={Math.min(x(turn) + 5, width - 170)} y={top}>
          point of no return
        </text>
      )}
      {run.points.map((p) => (
        <path key={p.planned.id} className="point" d={`M ${x(Date.parse(p.capturedAt)).toFixed(1)} ${String(floor)} l -5 9 h 10 z`} />
      ))}
      <text x={4} y={y(1) + 4}>
        100 %
      </text>
      <text x={20} y={y(0)}>
        0
      </text>
      {[start, middle, end].map((at, i) => (
        <text key={at} x={x(at)} y={height - 6} textAnchor={i === 0 ? 'start' : i === 1 ? 'middle' : 'end'}>
          {end - start < 1_800_000 ? clock(at) : hour(at)}
        </text>
      ))}
    </svg>
  );
}
