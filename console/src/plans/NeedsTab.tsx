import { Panel } from '../parts/Panel';
import type { Plan } from '../shared/shapes';
import { size } from '../shared/times';

const times = [
  ['before', 'Before the window'],
  ['inside', 'Inside the window'],
  ['after', 'After it, before the first job'],
  ['later', 'Later'],
] as const;

const nodes = (all: string[]) => (all.length > 3 ? `${String(all.length)} nodes` : all.join(', '));

/** What a plan needs besides its steps: what people do and when, answers, artefacts, and what data it changes. */
export function NeedsTab({ plan }: { plan: Plan }) {
  const converts = plan.moves.flatMap((m) => m.converts);
  if (plan.tasks.length + plan.answers.length + plan.artefacts.length + converts.length === 0)
    return (
      <Panel label="needs">
        <p className="soft">It needs nothing besides its steps.</p>
      </Panel>
    );
  return (
    <div className="halves">
      <Panel label="tasks" title="What people do">
        {plan.tasks.length === 0 && <p className="soft">Nothing besides signing and deciding.</p>}
        {times.map(([when, title]) => {
          const tasks = [...new Set(plan.tasks.filter((t) => t.when === when).map((t) => t.title))];
          return (
            tasks.length > 0 && (
              <div key={when}>
                <h3>{title}</h3>
                <ul className="close">
                  {tasks.map((t) => {
                    const its = plan.tasks.filter((x) => x.title === t && x.when === when);
                    return (
                      <li key={t}>
                        {t}{' '}
                        <span className="soft">
                          {its.map((x) => x.component).join(', ')}
                          {its.find((x) => x.owner)?.owner && `; ${its.find((x) => x.owner)?.owner ?? ''}`}
                        </span>
                      </li>
                    );
                  })}
                </ul>
              </div>
            )
          );
        })}
      </Panel>
      <Panel label="needs" title="What has to be there">
        {plan.answers.length > 0 && (
          <>
            <h3>Asked once</h3>
            <ul className="close">
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
            <ul className="close">
              {plan.artefacts.map((a) => (
                <li key={`${a.id} ${a.file ?? ''} ${String(a.forReturn)}`}>
                  {a.file ?? a.id}
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
            <ul className="close">
              {converts.map((c) => (
                <li key={c}>{c}</li>
              ))}
            </ul>
          </>
        )}
      </Panel>
    </div>
  );
}
