import { Button, Popover } from '@mantine/core';
import { DateTimePicker } from '@mantine/dates';
import '@mantine/dates/styles.css';
import { useMutation } from '@tanstack/react-query';
import { useState } from 'react';
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
        <Button loading={start.isPending} onClick={() => start.mutate({ notAtATime: true })}>
          Begin now
        </Button>
      ) : (
        <>
          <Popover withinPortal position="bottom-end">
            <Popover.Target>
              <Button variant="default">Start at …</Button>
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
              <Button
                mt="xs"
                disabled={!at}
                loading={start.isPending}
                onClick={() => start.mutate({ at: new Date(at ?? '').toISOString() })}
              >
                Start at that time
              </Button>
            </Popover.Dropdown>
          </Popover>
          <Button loading={start.isPending} onClick={() => start.mutate({})}>
            Start
          </Button>
        </>
      )}
    </>
  );
}
