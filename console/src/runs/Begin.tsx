import { Popover } from '@mantine/core';
import { DateTimePicker } from '@mantine/dates';
import '@mantine/dates/styles.css';
import { useMutation } from '@tanstack/react-query';
import { useState } from 'react';
import { Act } from '../parts/Act';
import { Trouble } from '../parts/Loaded';
import { api, told } from '../shared/client';
import type { Run } from '../shared/shapes';
import { ownZone } from '../shared/times';

/** Starts a run, now or at a time; while it waits for that time it can be let begin. */
export function Begin({ run }: { run: Run }) {
  const [at, setAt] = useState<string | null>(null);
  const start = useMutation({
    mutationFn: (body: { at?: string; notAtATime?: boolean }) =>
      told(api.POST('/api/runs/{run}/start', { params: { path: { run: run.run } }, body: { notAtATime: false, ...body } })),
  });
  const waits = run.status === 'waiting' && run.startsAt !== undefined;
  if (run.status !== 'ready' && !waits) return null;
  return (
    <>
      <Trouble of={start.error} />
      {waits ? (
        <Act call="POST /api/runs/{run}/start" loading={start.isPending} onClick={() => start.mutate({ notAtATime: true })}>
          Begin now
        </Act>
      ) : (
        <>
          <Popover withinPortal position="bottom-end">
            <Popover.Target>
              <Act call="POST /api/runs/{run}/start" variant="default">
                Start at …
              </Act>
            </Popover.Target>
            <Popover.Dropdown>
              <DateTimePicker
                label={`Begin at (${ownZone()})`}
                size="xs"
                w={220}
                value={at}
                onChange={setAt}
                valueFormat="D MMM YYYY HH:mm"
                submitButtonProps={{ 'aria-label': 'take this time' }}
                popoverProps={{ withinPortal: false }}
              />
              <Act
                call="POST /api/runs/{run}/start"
                mt="xs"
                disabled={!at}
                loading={start.isPending}
                onClick={() => start.mutate({ at: new Date(at ?? '').toISOString() })}
              >
                Start at that time
              </Act>
            </Popover.Dropdown>
          </Popover>
          <Act call="POST /api/runs/{run}/start" loading={start.isPending} onClick={() => start.mutate({})}>
            Start
          </Act>
        </>
      )}
    </>
  );
}
