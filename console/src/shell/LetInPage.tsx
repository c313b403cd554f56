import { Button, Group, TextInput } from '@mantine/core';
import { useMutation, useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { useSearchParams } from 'react-router';
import { Trouble } from '../parts/Loaded';
import { api, told } from '../shared/client';
import { useActingName } from '../shared/useActingName';
import { Sheet } from './Entry';

/** Where a command line is let in by whoever is signed in here. */
export function LetInPage() {
  const [asked, put] = useSearchParams();
  const code = asked.get('code') ?? '';
  const [typed, setTyped] = useState('');
  const name = useActingName() || 'whoever has the local key';
  const waiting = useQuery({
    queryKey: ['entries', code],
    queryFn: () => told(api.GET('/api/entries/{code}', { params: { path: { code } } })),
    enabled: code !== '',
    retry: false,
    refetchOnWindowFocus: false,
  });
  const say = useMutation({
    mutationFn: (its: boolean) => told(api.POST('/api/entries/{code}', { params: { path: { code } }, body: { let: its } })),
    onSuccess: ({ piece }) => {
      // The command line waits on this machine, and gets its last piece from here alone.
      const port = Number(asked.get('back'));
      if (piece && Number.isInteger(port) && port > 0 && port < 65536)
        globalThis.location.assign(`http://127.0.0.1:${String(port)}/?piece=${piece}`);
    },
  });
  if (say.isSuccess)
    return (
      <Sheet title={say.variables ? 'It is let in' : 'It is not let in'}>
        <p>
          {say.variables
            ? 'Go on in the terminal; this page may be closed.'
            : 'Whoever began it gets no further. If it was not you, tell an administrator: the record has the address.'}
        </p>
      </Sheet>
    );
  if (code === '' || waiting.error)
    return (
      <Sheet title="Let a command line in">
        <Trouble of={waiting.error} />
        <form
          onSubmit={(e) => {
            e.preventDefault();
            put({ code: typed.trim().toUpperCase() });
          }}
        >
          <TextInput
            size="sm"
            label="Code"
            description="As the terminal shows it"
            value={typed}
            onChange={(e) => setTyped(e.currentTarget.value)}
            autoFocus
            required
          />
          <Button type="submit">Look at it</Button>
        </form>
      </Sheet>
    );
  if (!waiting.data) return null;
  return (
    <Sheet title="Let a command line in">
      <p className="entry-code">{waiting.data.code}</p>
      <p>
        {waiting.data.program}, from {waiting.data.from}, asks to act as {name}. Let it in only if you began it just now and the terminal
        shows this code.
      </p>
      <Trouble of={say.error} />
      <Group gap="sm">
        <Button loading={say.isPending} onClick={() => say.mutate(true)}>
          Let it in as {name}
        </Button>
        <Button variant="default" disabled={say.isPending} onClick={() => say.mutate(false)}>
          It is not mine
        </Button>
      </Group>
    </Sheet>
  );
}
