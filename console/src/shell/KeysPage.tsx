import { Panel, PageHead } from '../parts/Panel';
import { ways } from './Shell';

const keys = [
  ['/', 'Search everything that has a page'],
  ['?', 'This page'],
  ['Tab, Shift Tab', 'From one thing to the next; Enter or Space does it'],
  ['Esc', 'Closes what lies above the page; nothing happens'],
  ['← →', 'On a strip: from jump to jump; between the tabs of a page'],
  ['← → ↑ ↓', 'On a matrix: from place to place; on the members: from one to the next'],
] as const;

/** Every key there is. */
export function KeysPage() {
  return (
    <>
      <PageHead title="Keys" />
      <div className="halves">
        <Panel label="keys" title="Everywhere">
          <table className="lines">
            <tbody>
              {keys.map(([key, does]) => (
                <tr key={key}>
                  <td className="nowrap">
                    <kbd>{key}</kbd>
                  </td>
                  <td>{does}</td>
                </tr>
              ))}
            </tbody>
          </table>
        </Panel>
        <Panel label="ways" title="To a page: g, then">
          <table className="lines">
            <tbody>
              {ways.map(([key, , title]) => (
                <tr key={key}>
                  <td>
                    <kbd>{key}</kbd>
                  </td>
                  <td>{title}</td>
                </tr>
              ))}
            </tbody>
          </table>
        </Panel>
      </div>
    </>
  );
}
