import { Checkbox, FileInput, Textarea, TextInput } from '@mantine/core';
import { useMutation } from '@tanstack/react-query';
import { useState } from 'react';
import { Act } from '../parts/Act';
import { Trouble } from '../parts/Loaded';
import { Panel } from '../parts/Panel';
import { State } from '../parts/State';
import { api, told } from '../shared/client';
import { contentOf } from '../shared/files';
import type { PersonAwaited, Run } from '../shared/shapes';
import { moment } from '../shared/times';
import { useActingName } from '../shared/useActingName';

/** What waits for a person: what is to be done, where, since when, whose it is, and the form that signs it. */
export function AwaitedPersons({ run, now }: { run: Run; now: number }) {
  return (
    <>
      {run.persons.map((p) => (
        <AwaitedPerson key={`${p.step} ${String(p.undo)}`} run={run.run} waits={p} now={now} />
      ))}
    </>
  );
}

function AwaitedPerson({ run, waits, now }: { run: string; waits: PersonAwaited; now: number }) {
  const name = useActingName();
  const [evidence, setEvidence] = useState('');
  const [file, setFile] = useState<File | null>(null);
  const [kept, setKept] = useState(false);
  const [owner, setOwner] = useState(waits.owner ?? '');
  const sign = useMutation({
    mutationFn: async () =>
      told(
        api.POST('/api/runs/{run}/signatures', {
          params: { path: { run } },
          body: {
            step: waits.step,
            evidence,
            cannotBeUndone: kept,
            owner: kept && owner ? owner : undefined,
            file: file ? { name: file.name, content: await contentOf(file) } : undefined,
          },
        }),
      ),
  });
  return (
    <Panel label="waits for a person" tone="ask">
      <div className="person-step">
        <div>
          <h2>
            <State of="waiting">
              Waits for {waits.owner ?? 'a person'}: {waits.title}
            </State>
          </h2>
          <p className="instructions">{waits.instructions}</p>
          <p className="soft">
            On {waits.member}
            {waits.since && `. It waits since ${moment(waits.since, now)}`}. Or from a terminal: <code>{waits.command}</code>
          </p>
        </div>
        <form
          onSubmit={(e) => {
            e.preventDefault();
            sign.mutate();
          }}
        >
          <Textarea
            label={kept ? 'Why it can’t be' : 'What you did or saw'}
            autosize
            minRows={2}
            value={evidence}
            onChange={(e) => setEvidence(e.currentTarget.value)}
          />
          <FileInput
            mt="xs"
            label="A file that shows it"
            placeholder="none"
            value={file}
            onChange={setFile}
            clearable
            clearButtonProps={{ 'aria-label': 'leave the file out' }}
          />
          {waits.undo && (
            <Checkbox mt="xs" label="It can’t be taken back" checked={kept} onChange={(e) => setKept(e.currentTarget.checked)} />
          )}
          {kept && <TextInput mt="xs" label="Whose it is from now on" value={owner} onChange={(e) => setOwner(e.currentTarget.value)} />}
          <Act
            call="POST /api/runs/{run}/signatures"
            mt="xs"
            type="submit"
            disabled={evidence.trim().length === 0}
            loading={sign.isPending}
          >
            {kept ? 'Leave it to be done' : 'Sign'} as {name || 'nobody yet'}
          </Act>
          <Trouble of={sign.error} />
        </form>
      </div>
    </Panel>
  );
}

/** The sign-off that a run waits for: what would begin, where the return path stands now, and the form to sign. */
export function AwaitedSignOff({ run }: { run: Run }) {
  const name = useActingName();
  const [note, setNote] = useState('');
  const awaited = run.signOffs.find((s) => s.awaited)?.asked;
  const sign = useMutation({
    mutationFn: () =>
      told(
        api.POST('/api/runs/{run}/sign-offs', {
          params: { path: { run: run.run } },
          body: { signOff: awaited?.id ?? '', note: note || undefined },
        }),
      ),
  });
  if (!awaited) return null;
  const next = run.blocks.find((b) => b.number === awaited.block);
  return (
    <Panel label="sign-off" tone="ask">
      <div className="person-step">
        <div>
          <h2>
            <State of="waiting">
              Waits for a sign-off {awaited.why}: part {awaited.block}, {next?.title}
            </State>
          </h2>
          <p>
            {next && <>After it: {next.return.why || next.return.state}. </>}
            {awaited.byAnother && `Not by ${run.by}, nor by who made the plan.`}
          </p>
        </div>
        <form
          onSubmit={(e) => {
            e.preventDefault();
            sign.mutate();
          }}
        >
          <TextInput label="Note" value={note} onChange={(e) => setNote(e.currentTarget.value)} />
          <Act call="POST /api/runs/{run}/sign-offs" mt="xs" type="submit" loading={sign.isPending}>
            Sign as {name || 'nobody yet'}
          </Act>
          <Trouble of={sign.error} />
        </form>
      </div>
    </Panel>
  );
}
