import { Button, PasswordInput, TextInput } from '@mantine/core';
import { useMutation, useQueryClient } from '@tanstack/react-query';
import { useState, type ReactNode } from 'react';
import { useLocation } from 'react-router';
import { Trouble } from '../parts/Loaded';
import { api, Refused, told } from '../shared/client';

/** A page beside all others. */
export function Sheet({ title, children }: { title: string; children: ReactNode }) {
  return (
    <main className="entry">
      <p className="product">Tide Step</p>
      <h1>{title}</h1>
      {children}
    </main>
  );
}

/** What is shown to whoever is not signed in: by name and password one comes in, or by a link from the machine itself. */
export function Entry({ why }: { why: Error }) {
  const cache = useQueryClient();
  const [name, setName] = useState('');
  const [password, setPassword] = useState('');
  const enter = useMutation({
    mutationFn: () => told(api.POST('/api/sign-in', { body: { name, password, browser: true } })),
    onSuccess: () => cache.invalidateQueries(),
    onError: () => setPassword(''),
  });
  if (!(why instanceof Refused) || why.status !== 401)
    return (
      <Sheet title="The service does not answer">
        <p>{why.message}</p>
        <Button onClick={() => void cache.invalidateQueries({ queryKey: ['me'] })}>Ask again</Button>
      </Sheet>
    );
  return (
    <Sheet title="Sign in">
      <form
        onSubmit={(e) => {
          e.preventDefault();
          enter.mutate();
        }}
      >
        <TextInput
          size="sm"
          label="Name"
          value={name}
          onChange={(e) => setName(e.currentTarget.value)}
          autoComplete="username"
          autoFocus
          required
        />
        <PasswordInput
          size="sm"
          label="Password"
          value={password}
          onChange={(e) => setPassword(e.currentTarget.value)}
          autoComplete="current-password"
          required
        />
        <Trouble of={enter.error} />
        <Button type="submit" loading={enter.isPending}>
          Sign in
        </Button>
      </form>
      <p className="soft">
        On the service’s own machine <code>tidestep console link</code> makes a link that opens this page without a password.
      </p>
    </Sheet>
  );
}

/** Where an invitation leads: a password is chosen, and one is in. */
export function JoinPage() {
  const { hash } = useLocation();
  const [password, setPassword] = useState('');
  const [again, setAgain] = useState('');
  const join = useMutation({
    mutationFn: () => told(api.POST('/api/join', { body: { invitation: hash.slice(1), password } })),
    onSuccess: () => globalThis.location.assign('/'),
  });
  const differs = again !== '' && again !== password;
  return (
    <Sheet title="Choose a password">
      <form
        onSubmit={(e) => {
          e.preventDefault();
          if (!differs) join.mutate();
        }}
      >
        <PasswordInput
          size="sm"
          label="Password"
          description="At least 12 characters; some words that go together are easy to keep"
          value={password}
          onChange={(e) => setPassword(e.currentTarget.value)}
          autoComplete="new-password"
          autoFocus
          required
        />
        <PasswordInput
          size="sm"
          label="The same again"
          value={again}
          onChange={(e) => setAgain(e.currentTarget.value)}
          error={differs ? 'This is not the same' : undefined}
          autoComplete="new-password"
          required
        />
        <Trouble of={join.error} />
        <Button type="submit" loading={join.isPending} disabled={again === '' || differs}>
          Come in
        </Button>
      </form>
    </Sheet>
  );
}
