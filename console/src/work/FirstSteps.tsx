import { Textarea, TextInput } from '@mantine/core';
import { useMutation, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { Link } from 'react-router';
import { Act } from '../parts/Act';
import { Trouble } from '../parts/Loaded';
import { PageHead, Panel } from '../parts/Panel';
import { api, told } from '../shared/client';
import { estateOf, hostsOf } from './firstEstate';

/** An empty service: a first estate out of names of hosts or an OpenSSH configuration, then its survey, a product, a plan. */
export function FirstSteps() {
  const [text, setText] = useState('');
  const [account, setAccount] = useState('ops');
  const hosts = hostsOf(text);
  const cache = useQueryClient();
  const make = useMutation({
    mutationFn: () => told(api.POST('/api/documents', { body: { documents: [{ name: 'estate.yaml', text: estateOf(hosts, account) }] } })),
    onSuccess: () => void cache.invalidateQueries(),
  });
  return (
    <>
      <PageHead title="Nothing is known yet" />
      <p>Tide Step plans an upgrade and runs it. It begins with what is there.</p>
      <div className="halves">
        <Panel label="first estate" title="1. Your hosts">
          <Textarea
            label="Names of hosts, one a line, or an OpenSSH configuration"
            description="They become the nodes of an estate; what runs on them you say afterwards, under Documents."
            autosize
            minRows={6}
            value={text}
            onChange={(e) => setText(e.currentTarget.value)}
            placeholder={'Host app-1\n  HostName 10.1.0.11\n  User ops'}
          />
          <TextInput
            mt="xs"
            w={200}
            label="Account, where a host names none"
            value={account}
            onChange={(e) => setAccount(e.currentTarget.value)}
          />
          <p>
            <Act
              call="POST /api/documents"
              disabled={hosts.length === 0 || account.trim() === '' || make.isPending}
              onClick={() => make.mutate()}
            >
              {hosts.length === 0 ? 'Make the first estate' : `Make an estate of ${String(hosts.length)} hosts`}
            </Act>
          </p>
          <Trouble of={make.error} />
          <p className="soft">
            They are reached over SSH: put the key in with <code>tidestep secret set ssh --file KEY</code>, and their host keys into{' '}
            <code>known_hosts</code> in the service’s data folder.
          </p>
        </Panel>
        <Panel label="what follows" title="What follows">
          <ol className="close">
            <li>
              <b>Survey</b>: every member is read over the reach that its node has; nothing is changed.
            </li>
            <li>
              <b>A product</b>: what its releases are, which versions may meet, how a jump is made. Under{' '}
              <Link to="/documents">Documents</Link>, from a pattern.
            </li>
            <li>
              <b>A plan</b>: name a goal; you get the best path, its windows, its return path, and what stands in the way.
            </li>
          </ol>
          <p className="soft">
            To look around first, start the demo on this machine instead: <code>make demo</code> brings the estate of Marram Ferries with a
            fleet of stand-ins.
          </p>
        </Panel>
      </div>
    </>
  );
}
