import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { Act } from '../parts/Act';
import { Confirm } from '../parts/Confirm';
import { Lines, type Column } from '../parts/Lines';
import { Loaded } from '../parts/Loaded';
import { PageHead, Panel } from '../parts/Panel';
import { State } from '../parts/State';
import { When } from '../parts/When';
import { api, told } from '../shared/client';
import type { Shapes } from '../shared/shapes';
import { many, size } from '../shared/times';

type Artefact = Shapes['ArtefactLine'];

/** The files that upgrades need: what is here, what is missing, where each lies ready, and what may go. */
export function ArtefactsPage() {
  const library = useQuery({ queryKey: ['artefacts'], queryFn: () => told(api.GET('/api/artefacts')), refetchInterval: 5000 });
  const [removing, setRemoving] = useState<Artefact>();
  const columns: Column<Artefact>[] = [
    { id: 'name', head: 'Artefact', value: (a) => a.name },
    { id: 'size', head: 'Size', value: (a) => a.bytes, cell: (a) => size(a.bytes), right: true },
    {
      id: 'sum',
      head: 'Checksum',
      value: (a) => (a.whole ? a.sha256 : 'changed since it came in'),
      cell: (a) =>
        a.whole ? <span className="mono">{a.sha256.slice(0, 12)}…</span> : <State of="damaged">changed since it came in</State>,
    },
    {
      id: 'ready',
      head: 'Lies ready on',
      value: (a) => a.staged.length,
      cell: (a) =>
        a.staged.length === 0 ? (
          <span className="soft">no node</span>
        ) : (
          <span title={a.staged.join('\n')}>{a.staged.length > 3 ? many(a.staged.length, 'node') : a.staged.join(', ')}</span>
        ),
    },
    {
      id: 'needed',
      head: 'Needed by',
      value: (a) => a.neededBy.length,
      cell: (a) =>
        a.safeToRemove ? (
          <Act
            call="DELETE /api/artefacts/{name}"
            variant="default"
            size="compact-sm"
            aria-label={`give up ${a.name}`}
            onClick={() => setRemoving(a)}
          >
            no plan: give it up …
          </Act>
        ) : (
          <span title={a.neededBy.join('\n')}>{many(a.neededBy.length, 'plan')}</span>
        ),
    },
    { id: 'origin', head: 'From', value: (a) => a.origin },
    { id: 'added', head: 'Added', value: (a) => a.added, cell: (a) => <When at={a.added} /> },
    { id: 'by', head: 'By', value: (a) => a.by },
  ];
  return (
    <>
      <PageHead title="Artefacts" />
      <Loaded query={library} what="the library">
        {({ artefacts, missing, fetching }) => (
          <div className="stack">
            {(missing.length > 0 || fetching.some((f) => f.state !== 'done')) && (
              <Panel label="missing" title="Missing">
                {missing.map((m) => (
                  <p key={m.name}>
                    <State of="failed">
                      {m.name}: {many(m.plans.length, 'plan needs it', 'plans need it')} on {many(m.nodes, 'node')}.
                    </State>{' '}
                    Add it: <code>tidestep artefact add FILE</code>
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
              </Panel>
            )}
            <Panel label="artefacts">
              <Lines
                name="artefacts"
                rows={artefacts}
                columns={columns}
                keyOf={(a) => a.name}
                empty="Nothing is in the library. Plans say which files they need; add them with tidestep artefact add FILE."
                height="calc(100vh - 15rem)"
              />
            </Panel>
          </div>
        )}
      </Loaded>
      {removing && <GiveUpArtefact of={removing} onClose={() => setRemoving(undefined)} />}
    </>
  );
}

function GiveUpArtefact({ of: a, onClose }: { of: Artefact; onClose: () => void }) {
  const cache = useQueryClient();
  const remove = useMutation({
    mutationFn: () => told(api.DELETE('/api/artefacts/{name}', { params: { path: { name: a.name } } })),
    onSuccess: () => {
      void cache.invalidateQueries({ queryKey: ['artefacts'] });
      onClose();
    },
  });
  return (
    <Confirm
      call="DELETE /api/artefacts/{name}"
      title={`Give up ${a.name}`}
      act={`Give up ${size(a.bytes)}`}
      danger
      pending={remove.isPending}
      error={remove.error}
      onAct={() => remove.mutate()}
      onClose={onClose}
    >
      <p>No plan needs it. The file goes from the library; what lies ready on nodes stays there.</p>
    </Confirm>
  );
}
