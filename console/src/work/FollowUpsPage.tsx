import { Button, Checkbox, Modal, TextInput } from '@mantine/core';
import { DateInput } from '@mantine/dates';
import '@mantine/dates/styles.css';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { Link, useSearchParams } from 'react-router';
import { Act } from '../parts/Act';
import { Lines, type Column } from '../parts/Lines';
import { Loaded, Trouble } from '../parts/Loaded';
import { PageHead, Panel } from '../parts/Panel';
import { State } from '../parts/State';
import { api, listed, now, told } from '../shared/client';
import type { FollowUp, Shapes } from '../shared/shapes';
import { day, until } from '../shared/times';

/** What runs left to be done: by whom, until when, and why; done, given to somebody, or put off here. */
export function FollowUpsPage() {
  const [asked, setAsked] = useSearchParams();
  const all = asked.get('all') !== null;
  const list = useQuery({ queryKey: ['follow-ups', all], queryFn: () => listed('/api/follow-ups', all ? { all: true } : {}, 5000) });
  const [changing, setChanging] = useState<FollowUp>();
  const columns: Column<FollowUp>[] = [
    {
      id: 'state',
      head: 'Due',
      value: (f) => f.due,
      cell: (f) =>
        f.done ? (
          <State of="done">{f.by ? `done by ${f.by}` : 'done'}</State>
        ) : (
          <span title={day(f.due)}>
            <State of={Date.parse(f.due) < now() ? 'overdue' : f.urgent ? 'caution' : 'due'}>{until(f.due, now())}</State>
          </span>
        ),
    },
    { id: 'what', head: 'What', value: (f) => f.what },
    { id: 'about', head: 'About', value: (f) => f.about },
    { id: 'owner', head: 'Owner', value: (f) => f.owner ?? '', cell: (f) => f.owner ?? <span className="soft">nobody’s yet</span> },
    { id: 'why', head: 'Why', value: (f) => f.why },
    { id: 'run', head: 'Run', value: (f) => f.label || f.run, cell: (f) => <Link to={`/runs/${f.run}`}>{f.label || f.run}</Link> },
    { id: 'note', head: 'Note', value: (f) => f.note, spare: true },
    {
      id: 'act',
      head: '',
      value: () => '',
      cell: (f) =>
        !f.done && (
          <Act
            call="POST /api/follow-ups"
            variant="default"
            size="compact-sm"
            aria-label={`change: ${f.what}`}
            onClick={() => setChanging(f)}
          >
            Change …
          </Act>
        ),
    },
  ];
  return (
    <>
      <PageHead title="Follow-ups" />
      <Panel label="follow-ups">
        <Loaded query={list} what="what is left to be done">
          {({ lines }) => (
            <Lines
              name="follow-ups"
              rows={lines}
              columns={columns}
              keyOf={(f) => `${f.run}/${f.id}`}
              empty="Nothing is left to be done."
              height="calc(100vh - 13rem)"
              tools={
                <Checkbox
                  label="Done as well"
                  checked={all}
                  onChange={(e) => {
                    const want = e.currentTarget.checked;
                    setAsked((was) => {
                      if (want) was.set('all', '');
                      else was.delete('all');
                      return was;
                    });
                  }}
                />
              }
            />
          )}
        </Loaded>
      </Panel>
      {changing && <Change of={changing} onClose={() => setChanging(undefined)} />}
    </>
  );
}

function Change({ of: f, onClose }: { of: FollowUp; onClose: () => void }) {
  const cache = useQueryClient();
  const [owner, setOwner] = useState(f.owner ?? '');
  const [due, setDue] = useState<string | null>(null);
  const [note, setNote] = useState(f.note ?? '');
  const say = useMutation({
    mutationFn: (body: Partial<Shapes['FollowUpRequest']>) =>
      told(api.POST('/api/follow-ups', { body: { run: f.run, followUp: f.id, done: false, note: note || undefined, ...body } })),
    onSuccess: () => {
      void cache.invalidateQueries({ queryKey: ['follow-ups'] });
      onClose();
    },
  });
  return (
    <Modal opened onClose={onClose} title={f.what} closeButtonProps={{ 'aria-label': 'close' }}>
      <p>
        {f.about}: {f.why}
      </p>
      <div className="stack">
        <TextInput label="Owner" value={owner} onChange={(e) => setOwner(e.currentTarget.value)} />
        <DateInput
          label="Due"
          size="xs"
          value={due ?? f.due.slice(0, 10)}
          onChange={setDue}
          valueFormat="D MMM YYYY"
          popoverProps={{ withinPortal: true }}
        />
        <TextInput label="Note" value={note} onChange={(e) => setNote(e.currentTarget.value)} />
      </div>
      <Trouble of={say.error} />
      <p style={{ display: 'flex', gap: '0.5rem', marginTop: '0.9rem' }}>
        <Act call="POST /api/follow-ups" loading={say.isPending} onClick={() => say.mutate({ done: true })}>
          It is done
        </Act>
        <Act
          call="POST /api/follow-ups"
          variant="default"
          onClick={() =>
            say.mutate({ ...(owner !== (f.owner ?? '') && { owner }), ...(due && { due: new Date(`${due}T12:00:00`).toISOString() }) })
          }
        >
          Keep owner, day and note
        </Act>
        <Button variant="subtle" onClick={onClose}>
          Not now
        </Button>
      </p>
    </Modal>
  );
}
