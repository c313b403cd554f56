import { useQuery } from '@tanstack/react-query';
import { get } from '../shared/api';
import { size } from '../shared/words';

interface Artefact {
  name: string;
  bytes: number;
  sha256: string;
  kind: string;
  origin: string;
  whole: boolean;
  staged: string[];
  neededBy: string[];
  safeToRemove: boolean;
}
interface Library {
  artefacts: Artefact[];
  missing: { name: string; plans: string[]; nodes: number }[];
  fetching: { name: string; state: string; here: number; all?: number; why?: string }[];
}

/** The files that upgrades need: what is here, what is missing, where each lies ready, and what may go. */
export function Artefacts() {
  const library = useQuery({ queryKey: ['artefacts'], queryFn: () => get<Library>('/api/artefacts'), refetchInterval: 5000 });
  if (library.error) return <p className="problem">{library.error.message}</p>;
  if (!library.data) return <p>Reading …</p>;
  const { artefacts, missing, fetching } = library.data;
  return (
    <section className="sheet" aria-label="artefacts">
      {missing.map((m) => (
        <p key={m.name} className="problem">
          ✕ {m.name} is missing; {m.plans.length} plan{m.plans.length > 1 && 's'} need it on {m.nodes} nodes. Add it: tidestep artefact add
          FILE
        </p>
      ))}
      {fetching
        .filter((f) => f.state !== 'done')
        .map((f) => (
          <p key={f.name}>
            {f.state}: {f.name}, {size(f.here)}
            {f.all !== undefined && ` of ${size(f.all)}`} {f.why}
          </p>
        ))}
      <table>
        <thead>
          <tr>
            <th>artefact</th>
            <th>size</th>
            <th>checksum</th>
            <th>lies ready on</th>
            <th>needed by</th>
            <th>from</th>
          </tr>
        </thead>
        <tbody>
          {artefacts.map((a) => (
            <tr key={a.name}>
              <td className="n">{a.name}</td>
              <td className="n">{size(a.bytes)}</td>
              <td className={a.whole ? 'n' : 'problem'}>{a.whole ? `${a.sha256.slice(0, 12)}…` : '✕ changed since it came in'}</td>
              <td>{a.staged.length === 0 ? 'no node' : a.staged.length > 3 ? `${String(a.staged.length)} nodes` : a.staged.join(', ')}</td>
              <td>{a.safeToRemove ? 'no plan: it may go' : `${String(a.neededBy.length)} plan${a.neededBy.length > 1 ? 's' : ''}`}</td>
              <td className="soft">{a.origin}</td>
            </tr>
          ))}
        </tbody>
      </table>
      {artefacts.length === 0 && <p>Nothing is in the library.</p>}
    </section>
  );
}
