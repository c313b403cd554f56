import type { Estate } from '../shared/api';
import { majorOf, type Product } from './model';

export interface Draft {
  releases: Record<string, string>;
  order: string[];
  pins: string[];
  allowUntested: boolean;
  /** A day on which everything shall still be supported; then no component is named. */
  supportedAt: string;
}
export const emptyDraft: Draft = { releases: {}, order: [], pins: [], allowUntested: false, supportedAt: '' };

/** A goal put together from components and releases, or the day on which everything shall be supported; the order in which components are chosen is the goal's order. */
export function GoalForm({
  estate,
  products,
  draft,
  onChange,
}: {
  estate: Estate;
  products: Product[];
  draft: Draft;
  onChange: (draft: Draft) => void;
}) {
  const choose = (components: string[], release: string) => {
    const releases = { ...draft.releases };
    let order = draft.order.filter((o) => !components.includes(o));
    for (const component of components) {
      if (release) releases[component] = release;
      else Reflect.deleteProperty(releases, component);
    }
    if (release) order = [...order, ...components];
    onChange({ ...draft, releases, order });
  };
  const toggle = (component: string) =>
    onChange({ ...draft, pins: draft.pins.includes(component) ? draft.pins.filter((p) => p !== component) : [...draft.pins, component] });
  return (
    <div className="goal">
      <label className="line">
        Everything on releases still supported on{' '}
        <input
          type="date"
          aria-label="everything supported on"
          value={draft.supportedAt}
          onChange={(e) => onChange({ ...draft, supportedAt: e.target.value, releases: {}, order: [] })}
        />
        , or:
      </label>
      <label className="line">
        <input type="checkbox" checked={draft.allowUntested} onChange={() => onChange({ ...draft, allowUntested: !draft.allowUntested })} />{' '}
        Pairs that nobody has tested may be relied on
      </label>
      <table>
        <thead>
          <tr>
            <th>component</th>
            <th>runs</th>
            <th>shall be at</th>
            <th>stays put</th>
          </tr>
        </thead>
        <tbody>
          {products.map((product) => {
            const its = estate.components.filter((c) => c.product === product.id);
            if (its.length === 0) return null;
            const releases = [...product.releases].reverse();
            const options = (
              <>
                <optgroup label="this release">
                  {releases.map((r) => (
                    <option key={r.label} value={r.label}>
                      {r.label}, {r.line.replace('-', ' ')}
                      {r.ends ? `, to ${r.ends}` : ''}
                    </option>
                  ))}
                </optgroup>
                <optgroup label="the best of">
                  {[...new Set(releases.map((r) => majorOf(r.label)))].map((major) => (
                    <option key={major} value={`to ${major}.x`}>
                      any {major}
                    </option>
                  ))}
                </optgroup>
                <optgroup label="no older than">
                  {releases.map((r) => (
                    <option key={r.label} value={`at-least ${r.label}`}>
                      {r.label} or later
                    </option>
                  ))}
                </optgroup>
              </>
            );
            return its.map((component, i) => (
              <tr key={component.component} className={i === 0 ? 'first' : ''}>
                <td>
                  {component.component} {i === 0 && <span className="soft">{product.title}</span>}
                </td>
                <td className="n">{component.versions}</td>
                <td>
                  <select
                    aria-label={`${component.component} shall be at`}
                    value={draft.releases[component.component] ?? ''}
                    disabled={draft.supportedAt !== ''}
                    onChange={(e) => choose([component.component], e.target.value)}
                  >
                    <option value="">as it is, or as it must</option>
                    {options}
                  </select>
                  {i === 0 && its.length > 1 && draft.releases[component.component] && (
                    <button
                      type="button"
                      onClick={() =>
                        choose(
                          its.map((c) => c.component),
                          draft.releases[component.component] ?? '',
                        )
                      }
                    >
                      all of them
                    </button>
                  )}
                </td>
                <td>
                  <input
                    type="checkbox"
                    aria-label={`${component.component} stays put`}
                    checked={draft.pins.includes(component.component)}
                    onChange={() => toggle(component.component)}
                  />
                </td>
              </tr>
            ));
          })}
        </tbody>
      </table>
    </div>
  );
}
