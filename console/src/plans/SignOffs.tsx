import { NativeSelect, TextInput } from '@mantine/core';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { Act } from '../parts/Act';
import { Loaded, Trouble } from '../parts/Loaded';
import { Panel } from '../parts/Panel';
import { State } from '../parts/State';
import { When } from '../parts/When';
import { api, told } from '../shared/client';
import type { DecisionKind, Shapes } from '../shared/shapes';
import { spanOf } from '../shared/times';
import { decisionWords } from '../shared/words';
import { useActingName } from '../shared/useActingName';

/** What was agreed for halts that nobody decides, in words. */
export const agreed = (given: Shapes['SignOff']) =>
  given.turnBack.length === 0
    ? 'a halt waits for somebody'
    : `at a halt that nobody decides: ${given.turnBack.map((o) => `${decisionWords(o.decision)} after ${spanOf(o.after)}`).join(', then ')}`;

/** The sign-offs of a plan: what is asked, what was signed, and the form to sign with what holds when nobody decides. */
export function SignOffs({ digest }: { digest: string }) {
  const path = { params: { path: { digest } } };
  const view = useQuery({ queryKey: ['sign-offs', digest], queryFn: () => told(api.GET('/api/plans/{digest}/sign-offs', path)) });
  const cache = useQueryClient();
  const name = useActingName();
  const [decision, setDecision] = useState<DecisionKind | ''>('');
  const [after, setAfter] = useState('20 min');
  const [note, setNote] = useState('');
  const sign = useMutation({
    // eslint-disable-next-line @typescript-eslint/no-unused-vars -- kept beside what came of it
    mutationFn: (_as: string) =>
      told(
        api.POST('/api/plans/{digest}/sign-offs', {
          ...path,
          body: { digest, note: note || undefined, turnBack: decision === '' ? [] : [{ decision, after, times: 1 }] },
        }),
      ),
    onSuccess: () => void cache.invalidateQueries({ queryKey: ['sign-offs', digest] }),
  });
  return (
    <Panel label="sign-offs" title="Sign-offs">
      <Loaded query={view} what="the sign-offs">
        {(v) =>
          v.asked.length === 0 ? (
            <p className="soft">The estate asks for none.</p>
          ) : (
            <>
              <ul className="close">
                {v.asked.map((a) => (
                  <li key={a.id}>
                    {a.id}: {a.why}{' '}
                    <span className="soft">
                      by {a.byAnother ? `another than ${v.author}` : 'anybody'}, holds {spanOf(a.lasts)}
                    </span>
                  </li>
                ))}
              </ul>
              {v.given.map((g) => (
                <p key={g.at}>
                  Signed by <b>{g.by}</b> on <When at={g.at} />, holds until <When at={g.ends} />; {agreed(g)}.{g.note && ` ${g.note}`}
                </p>
              ))}
              {v.missing && v.asked.some((a) => a.id === 'start') && (
                <form
                  onSubmit={(e) => {
                    e.preventDefault();
                    sign.mutate(name);
                  }}
                >
                  <p>
                    <State of="caution">It can’t start: {v.missing}.</State>
                  </p>
                  <div className="goal-options">
                    <NativeSelect
                      size="xs"
                      label="When nobody decides at a halt"
                      value={decision}
                      onChange={(e) => setDecision(e.currentTarget.value as DecisionKind | '')}
                      data={[
                        { value: '', label: 'it waits' },
                        { value: 'return-as-far-as', label: 'return to the start' },
                        { value: 'stop-here', label: 'stop here' },
                        { value: 'try-again', label: 'try again' },
                      ]}
                    />
                    {decision !== '' && <TextInput label="After" w={90} value={after} onChange={(e) => setAfter(e.currentTarget.value)} />}
                    <TextInput label="Note" w={240} value={note} onChange={(e) => setNote(e.currentTarget.value)} />
                    <Act call="POST /api/plans/{digest}/sign-offs" type="submit" loading={sign.isPending}>
                      Sign as {name || 'nobody yet'}
                    </Act>
                  </div>
                  {/* What was refused to somebody is not said of whoever acts now. */}
                  <Trouble of={sign.variables === name ? sign.error : null} />
                </form>
              )}
            </>
          )
        }
      </Loaded>
    </Panel>
  );
}
