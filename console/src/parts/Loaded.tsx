import { Button, Loader } from '@mantine/core';
import type { UseQueryResult } from '@tanstack/react-query';
import type { ReactNode } from 'react';
import { clock } from '../shared/times';

/** What was asked for, once it is there: while it is read, refused, or older than it should be it says so. */
export function Loaded<T>({ query, what, children }: { query: UseQueryResult<T>; what: string; children: (data: T) => ReactNode }) {
  if (query.data !== undefined)
    return (
      <>
        {query.isRefetchError && (
          <p className="warn" role="status">
            {what} can’t be read just now; what you see is from {clock(query.dataUpdatedAt)}.
          </p>
        )}
        {children(query.data)}
      </>
    );
  if (query.error)
    return (
      <p className="problem" role="alert">
        {query.error.message}{' '}
        <Button variant="default" size="compact-xs" onClick={() => void query.refetch()}>
          Ask again
        </Button>
      </p>
    );
  return (
    <p className="soft" role="status">
      <Loader size={13} aria-hidden="true" /> Reading {what} …
    </p>
  );
}

/** What went wrong with something that was asked for; nothing where all is well. */
export function Trouble({ of: error }: { of: Error | null | undefined }) {
  return error ? (
    <p className="problem" role="alert">
      {error.message}
    </p>
  ) : null;
}
