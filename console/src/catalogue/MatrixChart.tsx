import { useState } from 'react';
import type { Matrix, MatrixPlace } from '../shared/shapes';
import { rangesOf, wordOf } from './ranges';

const left = 90;
const ruler = 56;

/** What two products' releases are to each other: ranges against two rulers, with the verdict's word in each. One place is read out below; the arrow keys move it. */
export function MatrixChart({ matrix, ends }: { matrix: Matrix; ends: Map<string, string[]> }) {
  const [at, setAt] = useState({ row: matrix.these.length - 1, column: matrix.ats.length - 1 });
  const columnWidth = Math.max(24, Math.min(150, 1130 / matrix.ats.length));
  const rowHeight = matrix.these.length > 20 ? 22 : 30;
  const width = left + columnWidth * matrix.ats.length + 10;
  const height = ruler + rowHeight * matrix.these.length + 8;
  const rowOf = (row: number): MatrixPlace[] => matrix.places.slice(row * matrix.ats.length, (row + 1) * matrix.ats.length);
  const y = (row: number) => ruler + row * rowHeight;
  const x = (column: number) => left + column * columnWidth;
  const place = rowOf(at.row)[at.column];
  const endsHere = place ? (ends.get(`${place.this}|${place.at}`) ?? []) : [];
  const move = (key: string) => {
    const next = {
      row: at.row + (key === 'ArrowDown' ? 1 : key === 'ArrowUp' ? -1 : 0),
      column:
        key === 'Home' ? 0 : key === 'End' ? matrix.ats.length - 1 : at.column + (key === 'ArrowRight' ? 1 : key === 'ArrowLeft' ? -1 : 0),
    };
    setAt({
      row: Math.min(Math.max(next.row, 0), matrix.these.length - 1),
      column: Math.min(Math.max(next.column, 0), matrix.ats.length - 1),
    });
  };
  return (
    <figure className="matrix">
      <div className="matrix-scroll">
        <svg
          width={width}
          height={height}
          tabIndex={0}
          role="application"
          aria-label={`${matrix.product} ${matrix.relation.replace('-', ' ')} ${matrix.other}, ${String(matrix.these.length)} by ${String(matrix.ats.length)} releases`}
          aria-describedby="matrix-place"
          onKeyDown={(e) => {
            if (!['ArrowUp', 'ArrowDown', 'ArrowLeft', 'ArrowRight', 'Home', 'End'].includes(e.key)) return;
            e.preventDefault();
            move(e.key);
          }}
        >
          <text x={left - 8} y={16} textAnchor="end" className="axis">
            {matrix.product}
          </text>
          <text x={left} y={16} className="axis">
            {matrix.other}
          </text>
          <line x1={left} x2={width - 10} y1={ruler - 4} y2={ruler - 4} className="rule" />
          <line x1={left - 4} x2={left - 4} y1={ruler} y2={height - 8} className="rule" />
          {matrix.ats.map((label, column) => (
            <g key={label}>
              <line x1={x(column)} x2={x(column)} y1={ruler - 10} y2={ruler - 4} className="rule" />
              <text
                x={x(column) + columnWidth / 2}
                y={ruler - 12}
                textAnchor={columnWidth < 44 ? 'start' : 'middle'}
                transform={columnWidth < 44 ? `rotate(-55 ${String(x(column) + columnWidth / 2)} ${String(ruler - 12)})` : undefined}
                className={column === at.column ? 'now' : ''}
              >
                {label}
              </text>
            </g>
          ))}
          {matrix.these.map((label, row) => (
            <g key={label}>
              <text x={left - 10} y={y(row) + rowHeight / 2 + 4} textAnchor="end" className={row === at.row ? 'now' : ''}>
                {label}
              </text>
              {rangesOf(rowOf(row)).map((range) => (
                <g key={range.from}>
                  <rect
                    x={x(range.from) + 1}
                    width={(range.to - range.from + 1) * columnWidth - 2}
                    y={y(row) + 2}
                    height={rowHeight - 4}
                    className={`range range-${range.word.replace(' ', '-')}`}
                  />
                  {(range.to - range.from + 1) * columnWidth > 80 && (
                    <text x={x(range.from) + 8} y={y(row) + rowHeight / 2 + 4} className={`word-${range.word.replace(' ', '-')}`}>
                      {range.word}
                    </text>
                  )}
                </g>
              ))}
              {rowOf(row).map((p, column) => (
                <g key={p.at} onClick={() => setAt({ row, column })}>
                  <rect x={x(column)} y={y(row)} width={columnWidth} height={rowHeight} className="reach" />
                  {p.today.length > 0 && <circle cx={x(column) + columnWidth - 10} cy={y(row) + rowHeight / 2} r={5} className="today" />}
                  {ends.has(`${p.this}|${p.at}`) && (
                    <path
                      d={`M ${String(x(column) + columnWidth - 16)} ${String(y(row) + rowHeight / 2 + 6)} h 12 l -6 -12 Z`}
                      className="goal-mark"
                    />
                  )}
                </g>
              ))}
            </g>
          ))}
          <rect x={x(at.column) + 1} y={y(at.row) + 1} width={columnWidth - 2} height={rowHeight - 2} className="here" />
        </svg>
      </div>
      {place && (
        <figcaption id="matrix-place" aria-live="polite">
          <b>
            {matrix.product} {place.this} with {matrix.other} {place.at}: {wordOf(place)}
          </b>{' '}
          {place.rules.length > 0
            ? `by ${place.rules.join('; ')}`
            : place.noData
              ? '(neither product says anything of the other)'
              : '(no rule covers these two)'}
          .{place.today.length > 0 && ` Today: ${place.today.join(', ')}.`}
          {endsHere.length > 0 && ` After the newest plan: ${endsHere.join(', ')}.`}
        </figcaption>
      )}
      <p className="soft">○ stands today, △ stands after the newest plan; the arrow keys go from place to place.</p>
    </figure>
  );
}
