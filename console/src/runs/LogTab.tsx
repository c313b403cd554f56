import { Checkbox, Select } from '@mantine/core';
import { useQuery } from '@tanstack/react-query';
import { useSearchParams } from 'react-router';
import { Loaded } from '../parts/Loaded';
import { Panel } from '../parts/Panel';
import { api, told } from '../shared/client';
import type { Run } from '../shared/shapes';
import { TextView } from './OutputView';

/** The journal as a log for people: all of it or what is about one member, with outputs where they are wanted. */
export function LogTab({ run }: { run: Run }) {
  const [asked, setAsked] = useSearchParams();
  const member = asked.get('member') ?? undefined;
  const outputs = asked.get('outputs') !== null;
  const log = useQuery({
    queryKey: ['log', run.run, member, outputs, run.ended ? run.sequence : Math.floor(run.sequence / 20)],
    queryFn: () =>
      told(
        api.GET('/api/runs/{run}/log', { params: { path: { run: run.run }, query: { member, outputs } }, parseAs: 'text' }),
      ) as Promise<string>,
    placeholderData: (was) => was,
  });
  const members = [...new Set(run.blocks.flatMap((b) => b.lanes.map((l) => l.subject)).filter((s) => s.includes('/')))];
  const put = (key: string, value: string | null) =>
    setAsked((was) => {
      if (value === null) was.delete(key);
      else was.set(key, value);
      return was;
    });
  return (
    <Panel
      label="log"
      actions={
        <>
          <Select
            aria-label="member"
            placeholder="All members"
            data={[...new Set([...members, ...(member ? [member] : [])])]}
            value={member ?? null}
            clearable
            searchable
            w={220}
            onChange={(v) => put('member', v)}
          />
          <Checkbox label="With outputs" checked={outputs} onChange={(e) => put('outputs', e.currentTarget.checked ? '' : null)} />
        </>
      }
    >
      <Loaded query={log} what="the log">
        {(text) => <TextView text={text} name={`log of ${run.label || run.run}`} live={!run.ended} height="58vh" />}
      </Loaded>
    </Panel>
  );
}
