import { TextInput } from '@mantine/core';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { Act } from '../parts/Act';
import { Loaded, Trouble } from '../parts/Loaded';
import { Fact, Facts, PageHead, Panel } from '../parts/Panel';
import { State } from '../parts/State';
import { api, told } from '../shared/client';
import type { Shapes } from '../shared/shapes';
import { useService } from '../shared/queries';
import { ownZone, spanOf, zone } from '../shared/times';

const kept: [keyof Shapes['KeepingTimes'], string][] = [
  ['outputs', 'Outputs of attempts'],
  ['surveys', 'Surveys'],
  ['runs', 'Entries of ended runs (their report and record stay)'],
  ['notices', 'Notices'],
  ['answers', 'Answers to repeated requests'],
];

/** The service itself: whether it is ready, what it is, how long it keeps what, and the secrets it has by name. */
export function ServicePage() {
  const service = useService();
  const ready = useQuery({
    queryKey: ['ready'],
    queryFn: async () => {
      const response = await fetch('/health/ready');
      const body = (await response.json()) as { why?: string; title?: string };
      return { ok: response.ok, why: body.why ?? body.title };
    },
    refetchInterval: 10_000,
  });
  const secrets = useQuery({ queryKey: ['secrets'], queryFn: () => told(api.GET('/api/secrets')) });
  const times = useQuery({ queryKey: ['keeping'], queryFn: () => told(api.GET('/api/keeping')) });
  return (
    <>
      <PageHead title="Service" />
      <div className="halves">
        <div className="stack">
          <Panel label="health" title="Health">
            <Facts>
              <Fact name="State">
                {ready.data ? (
                  <State of={ready.data.ok ? 'good' : 'failed'}>{ready.data.ok ? 'ready' : (ready.data.why ?? 'not ready')}</State>
                ) : (
                  <State of={ready.error ? 'failed' : 'waiting'}>{ready.error ? 'does not answer' : 'asking'}</State>
                )}
              </Fact>
              <Fact name="Version">{service.data?.version}</Fact>
              <Fact name="Installation">
                <span className="mono">{service.data?.installation}</span>
              </Fact>
              {service.data && service.data.pace > 1 && (
                <Fact name="Pace" title="Settle times and limits are divided by it; only for demonstrations">
                  {service.data.pace} times as fast
                </Fact>
              )}
              <Fact name="Times shown in">{zone()}</Fact>
              {zone() !== ownZone() && <Fact name="Your zone">{ownZone()}</Fact>}
            </Facts>
          </Panel>
          <Panel label="secrets" title="Secrets">
            <Loaded query={secrets} what="the names of secrets">
              {(names) =>
                names.length === 0 ? (
                  <p className="soft">
                    None is kept here. Keep one with <code>tidestep secret set NAME</code>.
                  </p>
                ) : (
                  <ul className="close">
                    {names.map((n) => (
                      <li key={n} className="mono">
                        {n}
                      </li>
                    ))}
                  </ul>
                )
              }
            </Loaded>
          </Panel>
        </div>
        <Panel label="keeping" title="How long things are kept">
          <Loaded query={times} what="the times">
            {(now) => (
              <table className="lines">
                <thead>
                  <tr>
                    <th>What</th>
                    <th>Kept for</th>
                    <th>New time</th>
                  </tr>
                </thead>
                <tbody>
                  {kept.map(([key, title]) => (
                    <Kept key={key} of={key} title={title} now={now[key]} />
                  ))}
                </tbody>
              </table>
            )}
          </Loaded>
        </Panel>
      </div>
    </>
  );
}

function Kept({ of: key, title, now }: { of: keyof Shapes['KeepingTimes']; title: string; now: string }) {
  const [text, setText] = useState('');
  const cache = useQueryClient();
  const put = useMutation({
    mutationFn: () => told(api.PUT('/api/keeping', { body: { [key]: text } as Shapes['KeepingRequest'] })),
    onSuccess: () => {
      setText('');
      void cache.invalidateQueries({ queryKey: ['keeping'] });
    },
  });
  return (
    <tr>
      <td>{title}</td>
      <td className="nowrap">{spanOf(now)}</td>
      <td>
        <form
          style={{ display: 'flex', gap: '0.4rem' }}
          onSubmit={(e) => {
            e.preventDefault();
            put.mutate();
          }}
        >
          <TextInput
            aria-label={`new time for ${title}`}
            placeholder="like 90 d"
            w={90}
            value={text}
            onChange={(e) => setText(e.currentTarget.value)}
          />
          <Act
            call="PUT /api/keeping"
            type="submit"
            variant="default"
            size="compact-sm"
            disabled={text.trim() === ''}
            loading={put.isPending}
          >
            Set
          </Act>
        </form>
        <Trouble of={put.error} />
      </td>
    </tr>
  );
}
