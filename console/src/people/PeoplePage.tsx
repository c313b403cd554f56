import { Button, CopyButton, TextInput } from '@mantine/core';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { Confirm } from '../parts/Confirm';
import { Loaded, Trouble } from '../parts/Loaded';
import { PageHead, Panel } from '../parts/Panel';
import { State } from '../parts/State';
import { When } from '../parts/When';
import { api, told } from '../shared/client';
import type { Shapes } from '../shared/shapes';
import { Roles } from './Roles';
import { Tokens } from './Tokens';
import './people.css';

type Person = Shapes['PersonView'];

const stateOf = { invited: 'waiting', active: 'done', removed: 'skipped', 'set aside': 'set-aside' } as const;

/** Who may come in, and what they may do. */
export function PeoplePage() {
  const people = useQuery({ queryKey: ['people'], queryFn: () => told(api.GET('/api/people')), retry: false });
  const [invited, setInvited] = useState<Shapes['InvitedView']>();
  return (
    <>
      <PageHead title="People" />
      <div className="stack">
        {invited && <Invited of={invited} onClose={() => setInvited(undefined)} />}
        <Panel label="people" title="Who may come in">
          <Loaded query={people} what="the people">
            {(lines) =>
              lines.length === 0 ? (
                <p className="soft">
                  Nobody yet: whoever has the key in the service’s data folder acts by any name they say. Invite an administrator first;
                  from then on everybody has a name of their own.
                </p>
              ) : (
                <table className="lines">
                  <thead>
                    <tr>
                      <th>Person</th>
                      <th>Roles</th>
                      <th>State</th>
                      <th>Since</th>
                      <th />
                    </tr>
                  </thead>
                  <tbody>
                    {lines.map((p) => (
                      <PersonRow key={p.id} person={p} onInvited={setInvited} />
                    ))}
                  </tbody>
                </table>
              )
            }
          </Loaded>
        </Panel>
        <Invite onInvited={setInvited} first={people.data?.length === 0} />
        <Tokens />
      </div>
    </>
  );
}

/** The link of an invitation: it is shown once. */
function Invited({ of, onClose }: { of: Shapes['InvitedView']; onClose: () => void }) {
  return (
    <Panel label="invitation" tone="ask" title={`A link for ${of.person.name}`}>
      <p>
        <code className="once">{of.link}</code>
      </p>
      <p className="soft">
        They choose a password by it, until <When at={of.until} />. Give it to nobody else; it is not shown again.
      </p>
      <div className="actions">
        <CopyButton value={of.link}>
          {({ copied, copy }) => (
            <Button variant="default" onClick={copy}>
              {copied ? 'Copied' : 'Copy'}
            </Button>
          )}
        </CopyButton>
        <Button variant="default" onClick={onClose}>
          I have it
        </Button>
      </div>
    </Panel>
  );
}

function PersonRow({ person, onInvited }: { person: Person; onInvited: (invited: Shapes['InvitedView']) => void }) {
  const cache = useQueryClient();
  const [asking, ask] = useState<'roles' | 'remove'>();
  const [chosen, choose] = useState(person.roles);
  const done = () => {
    ask(undefined);
    return cache.invalidateQueries({ queryKey: ['people'] });
  };
  const path = { params: { path: { id: person.id } } };
  const again = useMutation({
    mutationFn: () => told(api.POST('/api/people/{id}/invitations', path)),
    onSuccess: (invited) => {
      onInvited(invited);
      return done();
    },
  });
  const change = useMutation({
    mutationFn: () => told(api.PUT('/api/people/{id}', { ...path, body: { roles: chosen } })),
    onSuccess: done,
  });
  const remove = useMutation({ mutationFn: () => told(api.DELETE('/api/people/{id}', path)), onSuccess: done });
  return (
    <tr className={person.state === 'removed' ? 'soft' : undefined}>
      <td>{person.name}</td>
      <td>{person.roles.join(', ') || 'none'}</td>
      <td>
        <State of={stateOf[person.state as keyof typeof stateOf]}>{person.state}</State>
      </td>
      <td>
        <When at={person.removedAt ?? person.madeAt} />
      </td>
      <td className="n">
        {person.state !== 'removed' && (
          <div className="actions">
            <Button variant="default" size="compact-sm" onClick={() => ask('roles')}>
              Roles
            </Button>
            <Button variant="default" size="compact-sm" onClick={() => again.mutate()} loading={again.isPending}>
              New link
            </Button>
            <Button variant="default" size="compact-sm" onClick={() => ask('remove')}>
              Remove
            </Button>
          </div>
        )}
        {asking === 'roles' && (
          <Confirm
            call="PUT /api/people/{id}"
            title={`What ${person.name} may do`}
            act="Give these roles"
            pending={change.isPending}
            error={change.error}
            onAct={() => change.mutate()}
            onClose={() => ask(undefined)}
          >
            <Roles value={chosen} onChange={choose} />
            <p className="soft">Their sessions end and they sign in anew. A run that they started goes on.</p>
          </Confirm>
        )}
        {asking === 'remove' && (
          <Confirm
            call="DELETE /api/people/{id}"
            title={`Let ${person.name} in no more`}
            act={`Remove ${person.name}`}
            danger
            pending={remove.isPending}
            error={remove.error}
            onAct={() => remove.mutate()}
            onClose={() => ask(undefined)}
          >
            <p>Their sessions end now. What they did keeps their name, and nobody else is given it. A run that they started goes on.</p>
          </Confirm>
        )}
        <Trouble of={again.error} />
      </td>
    </tr>
  );
}

function Invite({ onInvited, first }: { onInvited: (invited: Shapes['InvitedView']) => void; first: boolean }) {
  const cache = useQueryClient();
  const [name, setName] = useState('');
  const [roles, setRoles] = useState<string[]>(['look']);
  const invite = useMutation({
    mutationFn: () => told(api.POST('/api/people', { body: { name, roles } })),
    onSuccess: (invited) => {
      onInvited(invited);
      setName('');
      setRoles(['look']);
      return cache.invalidateQueries({ queryKey: ['people'] });
    },
  });
  return (
    <Panel label="invite" title={first ? 'Invite the first administrator' : 'Invite somebody'}>
      <form
        className="people-form"
        onSubmit={(e) => {
          e.preventDefault();
          invite.mutate();
        }}
      >
        <TextInput
          label="Name"
          description="It stands on all they do, and is never given to anybody else"
          value={name}
          onChange={(e) => setName(e.currentTarget.value)}
          required
        />
        <Roles value={roles} onChange={setRoles} />
        <Trouble of={invite.error} />
        <div className="actions">
          <Button type="submit" loading={invite.isPending}>
            Make the link
          </Button>
        </div>
      </form>
    </Panel>
  );
}
