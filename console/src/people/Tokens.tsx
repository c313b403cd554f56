import { Button, TextInput } from '@mantine/core';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { Confirm } from '../parts/Confirm';
import { Loaded } from '../parts/Loaded';
import { Panel } from '../parts/Panel';
import { State } from '../parts/State';
import { When } from '../parts/When';
import { api, now, told } from '../shared/client';
import type { Shapes } from '../shared/shapes';
import { Roles } from './Roles';

const stateOf = { active: 'done', ended: 'skipped', revoked: 'skipped' } as const;
const usualDays = 90;

/** Programs that may call the service. */
export function Tokens() {
  const cache = useQueryClient();
  const tokens = useQuery({ queryKey: ['tokens'], queryFn: () => told(api.GET('/api/tokens')), retry: false });
  const [making, setMaking] = useState(false);
  const [made, setMade] = useState<Shapes['MadeToken']>();
  const [revoking, setRevoking] = useState<Shapes['TokenView']>();
  const done = () => cache.invalidateQueries({ queryKey: ['tokens'] });
  const revoke = useMutation({
    mutationFn: (id: string) => told(api.DELETE('/api/tokens/{id}', { params: { path: { id } } })),
    onSuccess: () => {
      setRevoking(undefined);
      return done();
    },
  });
  return (
    <Panel
      label="tokens"
      title="Programs"
      actions={
        <Button variant="default" onClick={() => setMaking(true)}>
          Make a token
        </Button>
      }
    >
      {made && (
        <p>
          <code className="once">{made.shown}</code>{' '}
          <span className="soft">is what {made.token.name} shows; it is not shown again here.</span>
        </p>
      )}
      <Loaded query={tokens} what="the tokens">
        {(lines) =>
          lines.length === 0 ? (
            <p className="soft">No program calls this service by a token of its own.</p>
          ) : (
            <table className="lines">
              <thead>
                <tr>
                  <th>Program</th>
                  <th>Roles</th>
                  <th>State</th>
                  <th>Last day</th>
                  <th>Last used</th>
                  <th />
                </tr>
              </thead>
              <tbody>
                {lines.map((t) => (
                  <tr key={t.id}>
                    <td>{t.name}</td>
                    <td>{t.roles.join(', ')}</td>
                    <td>
                      <State of={stateOf[t.state as keyof typeof stateOf]}>{t.state}</State>
                    </td>
                    <td>{t.lastDay}</td>
                    <td>{t.usedAt ? <When at={t.usedAt} /> : 'never'}</td>
                    <td className="n">
                      {t.state === 'active' && (
                        <Button variant="default" size="compact-sm" onClick={() => setRevoking(t)}>
                          Revoke
                        </Button>
                      )}
                    </td>
                  </tr>
                ))}
              </tbody>
            </table>
          )
        }
      </Loaded>
      {revoking && (
        <Confirm
          call="DELETE /api/tokens/{id}"
          title={`Let ${revoking.name} in no more`}
          act="Revoke its token"
          danger
          pending={revoke.isPending}
          error={revoke.error}
          onAct={() => revoke.mutate(revoking.id)}
          onClose={() => setRevoking(undefined)}
        >
          <p>The program is refused from now on.</p>
        </Confirm>
      )}
      {making && (
        <Make
          onClose={(token) => {
            setMaking(false);
            if (token) setMade(token);
            void done();
          }}
        />
      )}
    </Panel>
  );
}

function Make({ onClose }: { onClose: (made?: Shapes['MadeToken']) => void }) {
  const [name, setName] = useState('');
  const [roles, setRoles] = useState<string[]>(['look']);
  const [lastDay, setLastDay] = useState(new Date(now() + usualDays * 86_400_000).toISOString().slice(0, 10));
  const make = useMutation({ mutationFn: () => told(api.POST('/api/tokens', { body: { name, roles, lastDay } })), onSuccess: onClose });
  return (
    <Confirm
      call="POST /api/tokens"
      title="A token for a program"
      act="Make it"
      pending={make.isPending}
      error={make.error}
      onAct={() => make.mutate()}
      onClose={() => onClose()}
    >
      <div className="people-form">
        <TextInput label="What the program is called" value={name} onChange={(e) => setName(e.currentTarget.value)} required />
        <TextInput
          label="Last day"
          description="As 2027-03-31"
          value={lastDay}
          onChange={(e) => setLastDay(e.currentTarget.value)}
          required
        />
        <Roles value={roles} onChange={setRoles} />
      </div>
    </Confirm>
  );
}
