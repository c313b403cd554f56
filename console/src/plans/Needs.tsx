import { size } from '../shared/words';
import type { Plan } from './model';

const times: Record<string, string> = {
  before: 'Before the window',
  inside: 'Inside the window',
  after: 'After it, before the first job',
  later: 'Later',
};

const nodes = (all: string[]) => (all.length > 3 ? `${String(all.length)} nodes` : all.join(', '));

/** What a plan needs besides its steps: what people do and when, answers, artefacts, and what data it changes. */
export function Needs({ plan }: { plan: Plan }) {
  const converts = plan.moves.flatMap((m) => m.converts);
  if (plan.tasks.length + plan.answers.length + plan.artefacts.length + converts.length === 0) return null;
  return (
    <section className="sheet" aria-label="needs">
      <h2>What it needs</h2>
      {Object.entries(times).map(([when, title]) => {
        const tasks = [...new Set(plan.tasks.filter((t) => t.when === when).map((t) => t.title))];
        return (
          tasks.length > 0 && (
            <div key={when}>
              <h3>{title}</h3>
              <ul>
                {tasks.map((t) => (
                  <li key={t}>
                    {t}{' '}
                    <span className="soft">
                      {plan.tasks
                        .filter((x) => x.title === t && x.when === when)
                        .map((x) => x.component)
                        .join(', ')}
                      {plan.tasks.find((x) => x.title === t && x.owner)?.owner &&
                        `; ${plan.tasks.find((x) => x.title === t && x.owner)?.owner ?? ''}`}
                    </span>
                  </li>
                ))}
              </ul>
            </div>
          )
        );
      })}
      {plan.answers.length > 0 && (
        <>
          <h3>Asked once</h3>
          <ul>
            {plan.answers.map((a) => (
              <li key={a.id}>
                {a.asks} <b>{a.answer}</b>
                {!a.given && <span className="soft"> as nobody answered</span>}
              </li>
            ))}
          </ul>
        </>
      )}
      {plan.artefacts.length > 0 && (
        <>
          <h3>Artefacts</h3>
          <ul>
            {plan.artefacts.map((a) => (
              <li key={`${a.id} ${a.file ?? ''} ${String(a.forReturn)}`}>
                <span className="figures">{a.file ?? a.id}</span>
                {a.bytes !== undefined && `, ${size(a.bytes)}`} <span className="soft">{nodes(a.nodes)}</span>
                {a.forReturn && ', for the return path'}
              </li>
            ))}
          </ul>
        </>
      )}
      {converts.length > 0 && (
        <>
          <h3>Data it changes</h3>
          <ul>
            {converts.map((c) => (
              <li key={c}>{c}</li>
            ))}
          </ul>
        </>
      )}
    </section>
  );
}
