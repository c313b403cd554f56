import type { Plan, Run } from '../shared/shapes';
import { field, type Mark, type Wave } from './members';

/** Marks of one standing as one path, so that ten thousand of them cost no more than a few. */
function squares(from: number, count: number, perRow: number, pitch: number, draw: (x: number, y: number, s: number) => string): string {
  let path = '';
  for (let i = from; i < from + count; i++) path += draw((i % perRow) * pitch, Math.floor(i / perRow) * pitch, pitch - 2);
  return path;
}
const full = (x: number, y: number, s: number) => `M${String(x)} ${String(y)}h${String(s)}v${String(s)}h-${String(s)}Z`;
const cross = (x: number, y: number, s: number) =>
  `M${String(x)} ${String(y)}l${String(s)} ${String(s)}M${String(x + s)} ${String(y)}l-${String(s)} ${String(s)}`;
const half = (x: number, y: number, s: number) => `M${String(x)} ${String(y + s)}h${String(s)}v-${String(s)}Z`;
const disc = (x: number, y: number, s: number) => {
  const r = String(s / 2);
  return `M${String(x)} ${String(y + s / 2)}a${r} ${r} 0 1 0 ${String(s)} 0a${r} ${r} 0 1 0 -${String(s)} 0Z`;
};
const shapes: Record<Mark, typeof full> = { done: full, working: half, person: disc, failed: cross, ahead: full };
const says: Record<Mark, string> = {
  done: 'done',
  working: 'at work',
  person: 'waiting for a person',
  failed: 'failed',
  ahead: 'ahead',
};

/** All members of a run at one look: a group of marks for each wave, a row for each move; a wave leads to its part. */
export function Field({ run, plan, chosen, onChoose }: { run: Run; plan?: Plan; chosen?: number; onChoose: (block: number) => void }) {
  const moves = field(run);
  const total = run.blocks.reduce((n, b) => n + (b.phase === 'roll' ? b.members : 0), 0);
  if (total === 0) return null;
  const pitch = total > 4000 ? 5 : total > 800 ? 7 : total > 200 ? 10 : 13;
  const name = (move: number) => plan?.moves.find((m) => m.number === move)?.component ?? `move ${String(move)}`;
  return (
    <div className="field" role="group" aria-label="waves">
      {moves.map(({ move, waves }) => (
        <div key={move} className="field-move">
          <span className="field-name" title={`move ${String(move)}`}>
            {name(move)}
          </span>
          <span className="field-waves">
            {waves.map((w) => (
              <WaveMarks key={w.block} wave={w} pitch={pitch} chosen={w.block === chosen} onChoose={onChoose} />
            ))}
          </span>
        </div>
      ))}
    </div>
  );
}

function WaveMarks({ wave, pitch, chosen, onChoose }: { wave: Wave; pitch: number; chosen: boolean; onChoose: (block: number) => void }) {
  const total = wave.marks.reduce((n, [, c]) => n + c, 0);
  const perRow = total <= 12 ? total : Math.min(60, Math.ceil(Math.sqrt(total * 4)));
  const rows = Math.ceil(total / perRow);
  const starts = wave.marks.map((_, i) => wave.marks.slice(0, i).reduce((n, [, c]) => n + c, 0));
  const told = `${wave.title}: ${wave.marks.map(([m, n]) => `${String(n)} ${says[m]}`).join(', ')}`;
  return (
    <button
      type="button"
      className="bare field-wave"
      aria-label={told}
      title={told}
      aria-pressed={chosen}
      onClick={() => onChoose(wave.block)}
    >
      <svg width={perRow * pitch} height={rows * pitch} aria-hidden="true">
        {wave.marks.map(([mark, n], i) => (
          <path key={mark} className={`mark-${mark}`} d={squares(starts[i] ?? 0, n, perRow, pitch, shapes[mark])} />
        ))}
      </svg>
    </button>
  );
}
