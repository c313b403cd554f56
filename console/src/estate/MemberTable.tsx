import { useInfiniteQuery } from '@tanstack/react-query';
import { useVirtualizer } from '@tanstack/react-virtual';
import { useEffect, useRef, type KeyboardEvent } from 'react';
import { Trouble } from '../parts/Loaded';
import { State } from '../parts/State';
import { api, byService, told } from '../shared/client';
import type { MemberLine } from '../shared/shapes';
import { ago, many } from '../shared/times';
import type { Filter } from './model';

const rowHeight = 27;

/** The members that a filter leaves, of any number: only what is in sight is drawn, and pages come as they are needed. */
export function MemberTable({ filter, chosen, choose }: { filter: Filter; chosen?: string; choose: (member: string) => void }) {
  const pages = useInfiniteQuery({
    queryKey: ['members', filter],
    queryFn: ({ pageParam }) =>
      told(
        api.GET('/api/members', {
          params: {
            query: {
              limit: 200,
              component: filter.component,
              text: filter.text || undefined,
              standing: filter.standing || undefined,
              after: pageParam,
            },
          },
        }),
      ),
    initialPageParam: undefined as string | undefined,
    getNextPageParam: (last) => last.next,
    refetchInterval: 15000,
  });
  const members = pages.data?.pages.flatMap((p) => p.members) ?? [];
  const total = pages.data?.pages[0]?.total ?? 0;
  const scroller = useRef<HTMLDivElement>(null);
  // eslint-disable-next-line react-hooks/incompatible-library -- its functions are called, never kept
  const rows = useVirtualizer({
    count: members.length,
    getScrollElement: () => scroller.current,
    estimateSize: () => rowHeight,
    overscan: 20,
  });
  const inSight = rows.getVirtualItems();
  const last = inSight.at(-1)?.index ?? 0;
  const { hasNextPage, isFetchingNextPage, fetchNextPage } = pages;
  useEffect(() => {
    if (last >= members.length - 50 && hasNextPage && !isFetchingNextPage) void fetchNextPage();
  }, [last, members.length, hasNextPage, isFetchingNextPage, fetchNextPage]);

  const at = members.findIndex((m) => m.member === chosen);
  const move = (event: KeyboardEvent) => {
    const by = { ArrowDown: 1, ArrowUp: -1, PageDown: 15, PageUp: -15 }[event.key];
    if (by === undefined || members.length === 0) return;
    event.preventDefault();
    const next = Math.min(members.length - 1, Math.max(0, at + by));
    const member = members[next];
    if (member) choose(member.member);
    rows.scrollToIndex(next);
  };
  return (
    <section className="panel member-table" aria-label="members">
      <p className="soft" role="status">
        {pages.isPending ? 'Reading …' : many(total, 'member')}
      </p>
      <Trouble of={pages.error} />
      <div role="grid" aria-rowcount={total} aria-label="list of members">
        <div role="row" className="member-row head">
          {['Member', 'Running', 'Installed', 'Staged', 'Service', 'Role', 'Site, domain', 'Read'].map((h) => (
            <span role="columnheader" key={h}>
              {h}
            </span>
          ))}
        </div>
        <div
          ref={scroller}
          className="member-scroller"
          tabIndex={0}
          onKeyDown={move}
          role="rowgroup"
          aria-label="members, by the arrow keys"
        >
          <div style={{ height: rows.getTotalSize(), position: 'relative' }} role="presentation">
            {inSight.map((item) => {
              const member = members[item.index];
              return (
                member && (
                  <Row
                    key={member.member}
                    member={member}
                    index={item.index}
                    top={item.start}
                    chosen={member.member === chosen}
                    now={byService(pages.dataUpdatedAt)}
                    choose={choose}
                  />
                )
              );
            })}
          </div>
        </div>
      </div>
    </section>
  );
}

function Row({
  member: m,
  index,
  top,
  chosen,
  now,
  choose,
}: {
  member: MemberLine;
  now: number;
  index: number;
  top: number;
  chosen: boolean;
  choose: (member: string) => void;
}) {
  const owes = m.installed && m.running && m.installed !== m.running;
  return (
    <div
      role="row"
      aria-rowindex={index + 2}
      aria-selected={chosen}
      className={`member-row${chosen ? ' chosen' : ''}`}
      style={{ transform: `translateY(${String(top)}px)` }}
      onClick={() => choose(m.member)}
    >
      <span role="gridcell">{m.member}</span>
      <span role="gridcell">{m.read ? (m.running ?? 'nothing') : m.lastKnown ? `was ${m.lastKnown}` : 'not known'}</span>
      <span role="gridcell" className={owes ? 'warn' : undefined}>
        {owes ? `${m.installed ?? ''}, restart owed` : (m.installed ?? '')}
      </span>
      <span role="gridcell">{m.staged ?? ''}</span>
      <span role="gridcell">
        {m.read ? (
          <State of={m.inService ? 'in-service' : 'out'}>{m.inService ? 'in service' : 'out'}</State>
        ) : (
          <State of="failed">not read</State>
        )}
      </span>
      <span role="gridcell">{m.role ?? ''}</span>
      <span role="gridcell">
        {m.site} {m.domain}
      </span>
      <span role="gridcell" className="soft">
        {m.knownAt ? ago(m.knownAt, now) : 'never'}
      </span>
    </div>
  );
}
