import { useState } from 'react';
import { span } from '../shared/times';
import { words } from '../shared/words';
import { rows, type Step, type Strip } from './model';

const width = 1240;
const left = 196;
const right = 14;
const top = 22;

// Many lines are drawn lower, so that the return path below them is still seen at one look.
const roomy = { rowHeight: 42, low: 29, rise: 15, methods: true };
const dense = { rowHeight: 20, low: 15, rise: 7, methods: false };
const manyLines = 11;

/** A path as a strip: each component a water line that steps up to its next version, hatched while both versions serve, cut where it is out;
 * below it how the return path stands. Every step can be reached with the keyboard. */
export function StripChart({ strip }: { strip: Strip }) {
  const [at, setAt] = useState(0);
  const lines = rows(strip);
  const { rowHeight, low, rise, methods } = lines.length > manyLines ? dense : roomy;
  const returnTop = top + lines.length * rowHeight + 8;
  const height = returnTop + (strip.returns.length > 0 ? 34 : 8) + 16;
  const x = (minute: number) => left + (minute / Math.max(strip.total, 1)) * (width - left - right);
  const shown = strip.steps[Math.min(at, strip.steps.length - 1)];
  const tell = (s: Step) =>
    `move ${String(s.move)}: ${s.component} ${s.from} to ${s.to}, ${s.method}, ${span(s.length * 60)} from ${span(s.start * 60)} on${s.out.length > 0 ? `; out: ${s.out.join(', ')}` : ''}${s.note ? `; ${s.note}` : ''}`;
  const hours = Array.from({ length: Math.floor(strip.total / 60) + 1 }, (_, i) => i * 60);
  return (
    <figure className="strip">
      <svg
        viewBox={`0 0 ${String(width)} ${String(height)}`}
        role="group"
        aria-label={`path: ${String(strip.steps.length)} jumps in ${span(strip.total * 60)}`}
        onKeyDown={(e) => {
          const by = e.key === 'ArrowRight' ? 1 : e.key === 'ArrowLeft' ? -1 : 0;
          if (by === 0) return;
          e.preventDefault();
          const next = Math.min(Math.max(at + by, 0), strip.steps.length - 1);
          setAt(next);
          e.currentTarget.querySelector<SVGGElement>(`[data-step="${String(next)}"]`)?.focus();
        }}
      >
        <defs>
          <pattern id="mixture" width="6" height="6" patternUnits="userSpaceOnUse" patternTransform="rotate(45)">
            <rect width="6" height="6" className="mixture-ground" />
            <line x1="0" y1="0" x2="0" y2="6" className="mixture-line" />
          </pattern>
        </defs>
        {hours.map((h) => (
          <g key={h}>
            <line x1={x(h)} x2={x(h)} y1={top - 6} y2={returnTop} className="hour" />
            <text x={x(h) + 3} y={top - 9}>
              {h === 0 ? 'begins' : `${String(h / 60)} h`}
            </text>
          </g>
        ))}
        {lines.map((line, row) => {
          const base = top + row * rowHeight;
          const level = (jumps: number) => base + low - (jumps / line.steps.length) * rise;
          return (
            <g key={line.component}>
              <text x={left - 56} y={base + low - 1} textAnchor="end" className="name">
                {line.component}
              </text>
              <text x={left - 8} y={base + low + 1} textAnchor="end">
                {line.steps[0]?.from}
              </text>
              {line.steps.map((s, i) => {
                const number = strip.steps.indexOf(s);
                const before = i === 0 ? 0 : (line.steps[i - 1]?.start ?? 0) + (line.steps[i - 1]?.length ?? 0);
                const after = line.steps[i + 1]?.start ?? strip.total;
                const offline = s.method === 'offline' || s.method === 'in one outage';
                return (
                  <g
                    key={number}
                    tabIndex={number === at ? 0 : -1}
                    data-step={number}
                    role="img"
                    aria-label={tell(s)}
                    onFocus={() => setAt(number)}
                    onMouseEnter={() => setAt(number)}
                    className={number === at ? 'step shown' : 'step'}
                  >
                    <line x1={x(before)} x2={x(s.start)} y1={level(i)} y2={level(i)} className="water" />
                    {offline ? (
                      <rect
                        x={x(s.start)}
                        width={Math.max(2, x(s.start + s.length) - x(s.start))}
                        y={level(i) - 3}
                        height={6}
                        className="outage"
                      />
                    ) : (
                      <path
                        d={`M ${x(s.start).toFixed(1)} ${level(i).toFixed(1)} L ${x(s.start + s.length).toFixed(1)} ${level(i + 1).toFixed(1)} V ${(base + low + 4).toFixed(1)} H ${x(s.start).toFixed(1)} Z`}
                        className="mixed"
                      />
                    )}
                    {methods && x(s.start + s.length) - x(s.start) > 52 && (
                      <text x={x(s.start) + 2} y={base + low + 14} className="method">
                        {s.method}
                      </text>
                    )}
                    <line x1={x(s.start + s.length)} x2={x(after)} y1={level(i + 1)} y2={level(i + 1)} className="water" />
                    <rect
                      x={x(s.start)}
                      width={Math.max(4, x(s.start + s.length) - x(s.start))}
                      y={base + 2}
                      height={rowHeight - 6}
                      className="reach"
                    />
                    <text
                      x={x(s.start + s.length) + 3}
                      y={level(i + 1) - (methods ? 4 : 2)}
                      textAnchor={x(s.start + s.length) > width - 60 ? 'end' : 'start'}
                    >
                      {s.to}
                    </text>
                  </g>
                );
              })}
            </g>
          );
        })}
        {strip.rests.map((rest) => (
          <g key={rest.at}>
            <line x1={x(rest.at) - 2} x2={x(rest.at) - 2} y1={top - 6} y2={returnTop + 18} className="rest" />
            <line x1={x(rest.at) + 2} x2={x(rest.at) + 2} y1={top - 6} y2={returnTop + 18} className="rest" />
            <text x={x(rest.at) + 6} y={returnTop - 2} className="rest-word">
              {rest.label}
            </text>
          </g>
        ))}
        {strip.returns.map((back, i) => (
          <g key={back.at}>
            <rect
              x={x(back.at)}
              width={Math.max(1, x(strip.returns[i + 1]?.at ?? strip.total) - x(back.at))}
              y={returnTop + 6}
              height={14}
              className={`back back-${back.state}`}
            />
            <text x={x(back.at) + 4} y={returnTop + 33}>
              {x(strip.returns[i + 1]?.at ?? strip.total) - x(back.at) > 175 && 'return path '}
              {words(back.state)}
            </text>
          </g>
        ))}
      </svg>
      {shown && (
        <figcaption aria-live="polite" className="screen-only">
          {tell(shown)} <span className="soft">(arrow keys go from jump to jump)</span>
        </figcaption>
      )}
    </figure>
  );
}
