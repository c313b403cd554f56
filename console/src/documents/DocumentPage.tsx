import { Button, Modal } from '@mantine/core';
import { notifications } from '@mantine/notifications';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { Link, useNavigate, useParams, useSearchParams } from 'react-router';
import { Act } from '../parts/Act';
import { Loaded, Trouble } from '../parts/Loaded';
import { PageHead, Panel } from '../parts/Panel';
import { State } from '../parts/State';
import { When } from '../parts/When';
import { api, listed, Refused, told, type Problem } from '../shared/client';
import { useComponents, useProducts } from '../shared/queries';
import type { Shapes } from '../shared/shapes';
import { many } from '../shared/times';
import './documents.css';
import { Differences, Editor } from './Editor';
import { patterns } from './patterns';
import { useActingName } from '../shared/useActingName';

type Stored = Shapes['StoredDocument'];

/** A document: seen, edited with every error at its line, its differences looked at before they are kept; and its earlier revisions. */
export function DocumentPage() {
  const { kind = '', id = '' } = useParams();
  const kept = useQuery({
    queryKey: ['document', kind, id],
    queryFn: () =>
      told(api.GET('/api/documents/{kind}/{id}', { params: { path: { kind, id } } })).catch((error: unknown) => {
        if (error instanceof Refused && error.status === 404) return null; // a new one
        throw error;
      }),
    refetchOnWindowFocus: false,
  });
  return (
    <Loaded query={kept} what="the document">
      {(stored) => <Document key={`${kind} ${id} ${String(stored?.revision ?? 0)}`} kind={kind} id={id} stored={stored} />}
    </Loaded>
  );
}

function Document({ kind, id, stored }: { kind: string; id: string; stored: Stored | null }) {
  const before = stored?.body ?? '';
  const [text, setText] = useState(stored ? stored.body : (patterns[kind] ?? ''));
  const [problems, setProblems] = useState<Problem[]>();
  const [asking, setAsking] = useState(false);
  const schema = useQuery({
    queryKey: ['schema', kind],
    queryFn: async () => (await fetch(`/schemas/${kind}`)).json() as Promise<unknown>,
    staleTime: Infinity,
  });
  const components = useComponents();
  const products = useProducts();
  const check = async (now: string) => {
    const found = await told(api.POST('/api/documents/check', { body: { documents: [{ name: id, text: now }] } }));
    setProblems(found.problems);
    return found.problems;
  };
  const changed = text !== before;
  return (
    <>
      <PageHead
        title={stored ? id : `New ${kind}`}
        actions={
          <>
            {problems && (
              <span role="status">
                <State of={problems.length === 0 ? 'good' : 'failed'}>
                  {problems.length === 0 ? 'nothing is wrong' : many(problems.length, 'problem')}
                </State>
              </span>
            )}
            <Button disabled={!changed || problems?.length !== 0} onClick={() => setAsking(true)}>
              Look at the differences …
            </Button>
          </>
        }
      >
        <span className="soft">
          <Link to="/documents">{kind}</Link>
          {stored && `, revision ${String(stored.revision)} by ${stored.author}`}
        </span>
        {changed && stored && <span className="warn">changed, not kept yet</span>}
      </PageHead>
      <div className="document-columns">
        <Editor
          text={text}
          label={`text of ${id}`}
          schema={schema.data ?? {}}
          names={{
            components: (components.data ?? []).map((c) => c.component),
            products: (products.data ?? []).map((p) => p.id),
          }}
          check={check}
          onChange={setText}
        />
        <div className="stack">
          {problems && problems.length > 0 && (
            <Panel label="problems" title={many(problems.length, 'problem')} className="problems">
              <ul className="plain stack-small">
                {problems.map((p, i) => (
                  <li key={i}>
                    <b>{p.at ? `line ${String(p.at.line)}` : 'as a whole'}</b> {p.what}
                    {p.detail && <span className="soft"> ({p.detail})</span>}
                    {p.hint && <div className="soft">{p.hint}</div>}
                  </li>
                ))}
              </ul>
            </Panel>
          )}
          {stored && <Revisions kind={kind} id={id} now={stored} />}
        </div>
      </div>
      {asking && <Keep id={id} stored={stored} text={text} onClose={() => setAsking(false)} />}
    </>
  );
}

/** The differences as they would be kept, and the word that keeps them. */
function Keep({ id, stored, text, onClose }: { id: string; stored: Stored | null; text: string; onClose: () => void }) {
  const cache = useQueryClient();
  const go = useNavigate();
  const name = useActingName();
  const keep = useMutation({
    mutationFn: () =>
      told(api.POST('/api/documents', { body: { documents: [{ name: id, text }], after: stored ? stored.revision : undefined } })),
    onSuccess: (saved) => {
      onClose();
      const one = saved[0];
      notifications.show({ message: `${one?.id ?? id} is kept as revision ${String(one?.revision ?? '')}.` });
      void cache.invalidateQueries();
      if (one) void go(`/documents/${one.kind}/${encodeURIComponent(one.id)}`, { replace: true });
    },
  });
  return (
    <Modal opened onClose={onClose} size="90vw" title={`What changes in ${id}`} closeButtonProps={{ 'aria-label': 'close' }}>
      <Differences before={stored?.body ?? ''} after={text} />
      <Trouble of={keep.error} />
      <p style={{ display: 'flex', gap: '0.5rem' }}>
        <Act call="POST /api/documents" loading={keep.isPending} onClick={() => keep.mutate()}>
          Keep it as revision {(stored?.revision ?? 0) + 1}
        </Act>
        <Button variant="default" onClick={onClose}>
          Not yet
        </Button>
        <span className="soft">{name ? `as ${name}` : 'Say who you are first, at the top right.'}</span>
      </p>
    </Modal>
  );
}

const mostUses = 20;

/** The plans that were made while a revision was the one that counted, asked for when somebody wants to know. */
function UsedBy({ since, before }: { since: string; before?: string }) {
  const [asked, setAsked] = useState(false);
  const plans = useQuery({
    queryKey: ['plans', 'made', since, before],
    queryFn: () => listed('/api/plans', { since, before, limit: mostUses }, mostUses),
    enabled: asked,
  });
  if (!asked)
    return (
      <>
        {' '}
        <button type="button" className="bare as-link" onClick={() => setAsked(true)}>
          used by …
        </button>
      </>
    );
  return (
    <Loaded query={plans} what="the plans">
      {({ lines, more }) => (
        <ul className="plain used-by">
          {lines.length === 0 && <li className="soft">No plan was made while it counted.</li>}
          {lines.map((p) => (
            <li key={p.digest}>
              plan <Link to={`/plans/${encodeURIComponent(p.digest)}`}>{p.goal.join('; ') || p.digest.slice(0, 19)}</Link>{' '}
              <span className="soft">
                by {p.by}, <When at={p.made} />
              </span>
              <RunsOf plan={p.digest} />
            </li>
          ))}
          {more && <li className="soft">and older ones: see the list of plans</li>}
        </ul>
      )}
    </Loaded>
  );
}

function RunsOf({ plan }: { plan: string }) {
  const runs = useQuery({
    queryKey: ['runs', 'of', plan],
    queryFn: () => listed('/api/runs', { search: plan, limit: mostUses }, mostUses),
  });
  return (
    <ul className="plain runs-of">
      {(runs.data?.lines ?? []).map((r) => (
        <li key={r.run}>
          run <Link to={`/runs/${r.run}`}>{r.label || r.run}</Link> <State of={r.status} />
        </li>
      ))}
    </ul>
  );
}

/** Earlier revisions; one is looked at against today's. */
function Revisions({ kind, id, now }: { kind: string; id: string; now: Stored }) {
  const [asked, setAsked] = useSearchParams();
  const looked = Number(asked.get('revision') ?? 0);
  const list = useQuery({
    queryKey: ['revisions', kind, id, now.revision],
    queryFn: () => told(api.GET('/api/documents/{kind}/{id}/revisions', { params: { path: { kind, id } } })),
  });
  const old = useQuery({
    queryKey: ['document', kind, id, looked],
    queryFn: () => told(api.GET('/api/documents/{kind}/{id}', { params: { path: { kind, id }, query: { revision: looked } } })),
    enabled: looked > 0,
  });
  const look = (revision: number) =>
    setAsked(
      (was) => {
        if (revision > 0) was.set('revision', String(revision));
        else was.delete('revision');
        return was;
      },
      { replace: true },
    );
  return (
    <Panel label="revisions" title="Revisions">
      <Loaded query={list} what="the revisions">
        {(lines) => (
          <ul className="plain stack-small">
            {lines.map((r, i) => (
              <li key={r.revision}>
                {r.revision === now.revision ? (
                  <b>{r.revision}, now</b>
                ) : (
                  <button type="button" className="bare as-link" onClick={() => look(r.revision)}>
                    {r.revision}, against now
                  </button>
                )}{' '}
                <When at={r.at} /> <span className="soft">{r.author}</span>
                <UsedBy since={r.at} before={lines[i - 1]?.at} />
              </li>
            ))}
          </ul>
        )}
      </Loaded>
      <Modal
        opened={looked > 0}
        onClose={() => look(0)}
        size="90vw"
        title={`Revision ${String(looked)} of ${id}, and revision ${String(now.revision)}`}
        closeButtonProps={{ 'aria-label': 'close' }}
      >
        <Loaded query={old} what="the revision">
          {(o) => <Differences before={o.body} after={now.body} />}
        </Loaded>
      </Modal>
    </Panel>
  );
}
