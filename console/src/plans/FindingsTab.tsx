import { FileInput } from '@mantine/core';
import { DateInput } from '@mantine/dates';
import '@mantine/dates/styles.css';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { Act } from '../parts/Act';
import { Confirm } from '../parts/Confirm';
import { Trouble } from '../parts/Loaded';
import { Panel } from '../parts/Panel';
import { State } from '../parts/State';
import { When } from '../parts/When';
import { api, now, Refused, told } from '../shared/client';
import { contentOf } from '../shared/files';
import type { Finding } from '../shared/shapes';
import { groups, idOf, sign, stands } from './findings';

/** Whether a plan is ready: every finding with its numbers, what helps, and who accepted what. */
export function FindingsTab({ digest }: { digest: string }) {
  const cache = useQueryClient();
  const path = { params: { path: { digest } } };
  const round = useQuery({
    queryKey: ['checks', digest],
    queryFn: () =>
      told(api.GET('/api/plans/{digest}/checks', path)).catch((error: unknown) => {
        if (error instanceof Refused && error.status === 404) return null; // never checked
        throw error;
      }),
  });
  const check = useMutation({
    mutationFn: () => told(api.POST('/api/plans/{digest}/checks', path)),
    onSuccess: (made) => cache.setQueryData(['checks', digest], made),
  });
  const waivers = useQuery({ queryKey: ['waivers'], queryFn: () => told(api.GET('/api/waivers')) });
  const agree = useMutation({
    mutationFn: (finding: string) => told(api.POST('/api/waivers/second', { body: { finding } })),
    onSuccess: () => {
      void waivers.refetch();
      check.mutate();
    },
  });
  const [accepting, setAccepting] = useState<Finding>();
  const waiting = waivers.data?.filter((w) => w.needsSecond && !w.second && Date.parse(w.ends) > now()) ?? [];
  const findings = round.data?.round.findings ?? [];
  const ready = round.data && !findings.some((f) => stands(f) && f.level === 'blocker');
  return (
    <div className="stack">
      <Panel
        label="checks"
        title={
          round.data ? (
            <span role="status" aria-label="readiness">
              <State of={ready ? 'good' : 'closed'}>{ready ? 'Ready: nothing stands in the way.' : 'Not ready.'}</State>
            </span>
          ) : (
            'Checks'
          )
        }
        actions={
          <Act call="POST /api/plans/{digest}/checks" loading={check.isPending} onClick={() => check.mutate()}>
            {round.data ? 'Check again' : 'Check now'}
          </Act>
        }
      >
        <Trouble of={round.error ?? check.error ?? agree.error} />
        {round.data === null && (
          <p className="soft">This plan was never checked. A check reads every member and holds the plan’s needs against what is there.</p>
        )}
        {round.data && (
          <p>
            {round.data.summary}. <span className="soft">Round {round.data.number}, </span>
            <When at={round.data.round.at} />
          </p>
        )}
        {waiting.map((w) => (
          <p key={w.finding} className="warn with-button">
            <span>
              {w.by} accepts “{w.finding}”: {w.reason}. A second person has to agree.
            </span>
            <Act
              call="POST /api/waivers/second"
              variant="default"
              size="compact-sm"
              disabled={agree.isPending}
              onClick={() => agree.mutate(w.finding)}
            >
              Agree
            </Act>
          </p>
        ))}
      </Panel>
      {groups(findings).map((g) => (
        <details key={g.title} className="panel findings" open={!g.folded}>
          <summary>
            <h2>
              {g.title}, {g.findings.length}
            </h2>
          </summary>
          <table className="lines" aria-label={g.title}>
            <thead>
              <tr>
                <th>State</th>
                <th>Finding</th>
                <th>Found</th>
                <th>Needed</th>
                <th>Moves</th>
                <th />
              </tr>
            </thead>
            <tbody>
              {g.findings.map((f) => (
                <Line key={idOf(f)} finding={f} onAccept={() => setAccepting(f)} />
              ))}
            </tbody>
          </table>
        </details>
      ))}
      {accepting && (
        <Accept
          plan={digest}
          finding={accepting}
          onClose={(accepted) => {
            setAccepting(undefined);
            if (accepted) {
              void waivers.refetch();
              check.mutate();
            }
          }}
        />
      )}
    </div>
  );
}

/** What no reason makes bearable: another run at work, and the branch that Tide Step itself sits on. */
const nobodyMayAccept = ['reserved', 'carries-us'];

function Line({ finding: f, onAccept }: { finding: Finding; onAccept: () => void }) {
  const { state, word } = sign(f);
  return (
    <tr>
      <td>
        <State of={state}>{word}</State>
      </td>
      <td>
        <b>{f.what}</b>
        <div>
          {f.subject} <span className="soft">{f.check}</span>
        </div>
        {f.waived ? (
          <div className="soft">
            {f.waived.by}
            {f.waived.second && ` and ${f.waived.second}`}, until <When at={f.waived.ends} />: {f.waived.reason}
          </div>
        ) : (
          f.remedy && <div className="remedy">{f.remedy}</div>
        )}
      </td>
      <td>{f.found}</td>
      <td>{f.needed}</td>
      <td className="nowrap">{f.moves.length > 4 ? `${String(f.moves.length)} moves` : f.moves.join(', ')}</td>
      <td className="n">
        {stands(f) && !nobodyMayAccept.includes(f.check) && (
          <Act
            call={f.check === 'manual' ? 'POST /api/plans/{digest}/signatures' : 'POST /api/waivers'}
            variant="default"
            size="compact-sm"
            aria-label={`${f.check === 'manual' ? 'sign' : 'accept'} ${idOf(f)}`}
            onClick={onAccept}
          >
            {f.check === 'manual' ? 'Sign …' : 'Accept …'}
          </Act>
        )}
      </td>
    </tr>
  );
}

/** A person's word on one finding: why it may be borne as it stands, and until when; or that what people had to do is done. */
function Accept({ plan, finding, onClose }: { plan: string; finding: Finding; onClose: (accepted: boolean) => void }) {
  const [until, setUntil] = useState<string | null>(null);
  const [file, setFile] = useState<File | null>(null);
  const manual = finding.check === 'manual';
  const accept = useMutation({
    mutationFn: async (reason: string) => {
      if (manual)
        await told(
          api.POST('/api/plans/{digest}/signatures', {
            params: { path: { digest: plan } },
            body: {
              item: finding.subject,
              evidence: reason,
              ...(file && { file: { name: file.name, content: await contentOf(file) } }),
            },
          }),
        );
      else
        await told(
          api.POST('/api/waivers', {
            body: {
              plan,
              finding: idOf(finding),
              reason,
              ...(until && { ends: new Date(`${until}T23:59:59`).toISOString() }),
            },
          }),
        );
    },
    onSuccess: () => onClose(true),
  });
  return (
    <Confirm
      call={manual ? 'POST /api/plans/{digest}/signatures' : 'POST /api/waivers'}
      title={idOf(finding)}
      act={manual ? 'Sign' : 'Accept'}
      reason={{ label: manual ? 'What you did or saw, for the report' : 'Why it may be borne, for the report', needed: true }}
      pending={accept.isPending}
      error={accept.error}
      onAct={(reason) => accept.mutate(reason)}
      onClose={() => onClose(false)}
    >
      <p>{finding.what}</p>
      {manual ? (
        <FileInput label="A file that shows it, if words are not enough" size="xs" value={file} onChange={setFile} clearable />
      ) : (
        <>
          <DateInput
            label="Until the end of (a week, if not given)"
            size="xs"
            w={220}
            clearable
            value={until}
            onChange={setUntil}
            valueFormat="D MMM YYYY"
          />
          <p className="soft">It covers this finding as it is now. If it gets worse it stands again.</p>
        </>
      )}
    </Confirm>
  );
}
