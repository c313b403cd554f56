import { NumberInput } from '@mantine/core';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { Act } from '../parts/Act';
import { Loaded, Trouble } from '../parts/Loaded';
import { Fact, Facts, Panel } from '../parts/Panel';
import { State } from '../parts/State';
import { api, told } from '../shared/client';
import type { Shapes } from '../shared/shapes';
import { day, spanOf } from '../shared/times';

const percent = (share: number) => `${String(Math.round(share * 1000) / 10)} %`;

/** The rehearsals of a plan: how its end spreads, whether its windows hold, what decides it, and what a test estate has shown. */
export function Rehearsals({ digest }: { digest: string }) {
  const path = { params: { path: { digest } } };
  const view = useQuery({ queryKey: ['rehearsals', digest], queryFn: () => told(api.GET('/api/plans/{digest}/rehearsals', path)) });
  const cache = useQueryClient();
  const [draws, setDraws] = useState<number | string>(200);
  const [fails, setFails] = useState<number | string>(2);
  const rehearse = useMutation({
    mutationFn: () =>
      told(api.POST('/api/plans/{digest}/rehearsals', { ...path, body: { draws: Number(draws), failsPerThousand: Number(fails) } })),
    onSuccess: () => void cache.invalidateQueries({ queryKey: ['rehearsals', digest] }),
  });
  return (
    <Panel
      label="rehearsals"
      title="Rehearsals"
      actions={
        <form
          className="lines-tools"
          onSubmit={(e) => {
            e.preventDefault();
            rehearse.mutate();
          }}
        >
          <label>
            draws{' '}
            <NumberInput
              aria-label="draws"
              size="xs"
              w={80}
              display="inline-block"
              min={1}
              value={draws}
              onChange={setDraws}
              hideControls
            />
          </label>
          <label>
            of 1000 steps fail{' '}
            <NumberInput
              aria-label="of 1000 steps fail"
              size="xs"
              w={60}
              display="inline-block"
              min={0}
              value={fails}
              onChange={setFails}
              hideControls
            />
          </label>
          <Act call="POST /api/plans/{digest}/rehearsals" type="submit" variant="default" loading={rehearse.isPending}>
            Rehearse in simulated time
          </Act>
        </form>
      }
    >
      <Trouble of={rehearse.error} />
      <Loaded query={view} what="the rehearsals">
        {({ drawn, evidence, missing }) => (
          <>
            {missing && (
              <p>
                <State of="caution">It can’t start: {missing}.</State>
              </p>
            )}
            {!drawn && !evidence && <p className="soft">It was never rehearsed.</p>}
            {drawn?.drawn && <Spread drawn={drawn.drawn} by={drawn.by} at={drawn.at} />}
            {evidence?.evidence && (
              <p>
                In a test estate: run {evidence.evidence.run} in {evidence.evidence.estate} took the same steps; taken by {evidence.by} on{' '}
                {day(evidence.at)}.
              </p>
            )}
          </>
        )}
      </Loaded>
    </Panel>
  );
}

function Spread({ drawn, by, at }: { drawn: Shapes['RehearsalResult']; by: string; at: string }) {
  return (
    <div className="halves">
      <div>
        {drawn.ended === 0 ? (
          <b>None of {drawn.wish.draws} draws came to its end.</b>
        ) : (
          <Facts>
            <Fact name={`Half of ${String(drawn.wish.draws)} draws end within`}>{spanOf(drawn.middle)}</Fact>
            <Fact name="One in ten within">{spanOf(drawn.early)}</Fact>
            <Fact name="One in ten takes more than">{spanOf(drawn.late)}</Fact>
            <Fact name="Planned">{spanOf(drawn.planned)}</Fact>
            <Fact name="Came to their end">{percent(drawn.ended)}</Fact>
          </Facts>
        )}
        <p className="soft">
          {by}, {day(at)}. {percent(drawn.assumedShare)} of the time lies in steps whose spread is assumed. It proves order, times and
          decisions, not the products’ steps.
        </p>
        {drawn.windows.map((w) => (
          <p key={w.window + w.to}>
            <State of={w.chance < 0.5 ? 'caution' : 'good'}>
              window {w.window}, to {day(w.to)}: kept in {percent(w.chance)}
            </State>
          </p>
        ))}
        {drawn.broken.map((b) => (
          <p key={b} className="problem">
            A guard breaks: {b}
          </p>
        ))}
        {drawn.halts.length > 0 && <p className="soft">Halts: {drawn.halts.join('; ')}</p>}
      </div>
      {drawn.deciding.length > 0 && (
        <table className="lines">
          <thead>
            <tr>
              <th>What decides the end</th>
              <th>Of</th>
              <th className="n">Share</th>
              <th>Its spread</th>
            </tr>
          </thead>
          <tbody>
            {drawn.deciding.map((d) => (
              <tr key={d.step + d.component}>
                <td>{d.step}</td>
                <td>{d.component}</td>
                <td className="n">{percent(d.share)}</td>
                <td>{d.assumed ? 'assumed' : 'learnt'}</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
    </div>
  );
}
