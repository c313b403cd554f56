import { Drawer } from '@mantine/core';
import { useQuery } from '@tanstack/react-query';
import { Loaded } from '../parts/Loaded';
import { api, told } from '../shared/client';
import type { Run, Shapes } from '../shared/shapes';
import { many } from '../shared/times';
import { standing, type Mark } from './members';

const most = 2000;

/** Of one component in a run: which members still run the old version, which are between, which run the new one. */
export function WhoRunsWhat({ run, tide, onClose }: { run: Run; tide: Shapes['TideView']; onClose: () => void }) {
  const view = useQuery({
    queryKey: ['run', run.run, 'all', run.sequence],
    queryFn: () => told(api.GET('/api/runs/{run}', { params: { path: { run: run.run }, query: { lanes: 'all', most } } })),
    placeholderData: (was) => was,
  });
  return (
    <Drawer opened onClose={onClose} title={`${tide.component}, ${tide.from} to ${tide.to}`} closeButtonProps={{ 'aria-label': 'close' }}>
      <Loaded query={view} what="the members">
        {(all) => {
          const lanes = all.blocks
            .filter((b) => b.phase === 'roll')
            .flatMap((b) => b.lanes)
            .filter((l) => l.subject.startsWith(`${tide.component}/`));
          const of = (mark: Mark) => lanes.filter((l) => standing(l) === mark);
          const old = of('ahead');
          const between = [...of('failed'), ...of('person'), ...of('working')];
          const done = of('done');
          return (
            <div className="stack">
              <Group title={`Still on ${tide.from}`} label="old version" lanes={old} />
              {between.length > 0 && <Group title="In between" label="in between" lanes={between} />}
              <Group title={`On ${tide.to}`} label="new version" lanes={done} />
            </div>
          );
        }}
      </Loaded>
    </Drawer>
  );
}

function Group({ title, label, lanes }: { title: string; label: string; lanes: Shapes['LaneView'][] }) {
  return (
    <section aria-label={label}>
      <h3>
        {title}: {many(lanes.length, 'member')}
      </h3>
      <ul className="close columns">
        {lanes.map((l) => (
          <li key={l.subject}>{l.subject}</li>
        ))}
      </ul>
    </section>
  );
}
