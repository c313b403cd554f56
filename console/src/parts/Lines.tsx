import { Button, Checkbox, Menu, TextInput } from '@mantine/core';
import {
  flexRender,
  getCoreRowModel,
  getFilteredRowModel,
  getSortedRowModel,
  useReactTable,
  type ColumnDef,
  type Row,
  type SortingState,
} from '@tanstack/react-table';
import { useVirtualizer } from '@tanstack/react-virtual';
import { useMemo, useRef, useState, type ReactNode } from 'react';
import { useSearchParams } from 'react-router';
import { save } from '../shared/files';
import { csvOf } from './csv';

/** A column: its heading, what a row has in it as text or number (for sorting, search and export), and how it is shown. */
export interface Column<T> {
  id: string;
  head: string;
  value: (row: T) => string | number | undefined;
  cell?: (row: T) => ReactNode;
  right?: boolean;
  /** Not shown before somebody picks it. */
  spare?: boolean;
}

interface Props<T> {
  /** What the table holds; also its file's name. */
  name: string;
  rows: T[];
  columns: Column<T>[];
  keyOf: (row: T) => string;
  empty: ReactNode;
  /** Where several can be chosen: what may be, and what is done with them. */
  choose?: { can: (row: T) => boolean; acts: (chosen: T[], clear: () => void) => ReactNode };
  onOpen?: (row: T) => void;
  openKey?: string;
  tools?: ReactNode;
  height?: string;
  more?: ReactNode;
}

const rowHeight = 31;
const manyRows = 80;

/** A table as every page has it: sorted by its headings, searched, its columns picked, exported as CSV or JSON; of many rows only those in sight are drawn. Search and order stand in the address. */
export function Lines<T>({ name, rows, columns, keyOf, empty, choose, onOpen, openKey, tools, height, more }: Props<T>) {
  const [asked, setAsked] = useSearchParams();
  const sorting: SortingState = useMemo(() => {
    const [id, way] = (asked.get('order') ?? '').split(':');
    return id ? [{ id, desc: way === 'down' }] : [];
  }, [asked]);
  const search = asked.get('find') ?? '';
  const put = (key: string, value: string) =>
    setAsked(
      (was) => {
        if (value) was.set(key, value);
        else was.delete(key);
        return was;
      },
      { replace: true },
    );
  const [spare, setSpare] = useState<Record<string, boolean>>(() =>
    Object.fromEntries(columns.filter((c) => c.spare).map((c) => [c.id, false])),
  );
  const [chosen, setChosen] = useState<Record<string, boolean>>({});
  const defs = useMemo<ColumnDef<T>[]>(
    () =>
      columns.map((c) => ({
        id: c.id,
        header: c.head,
        accessorFn: (row) => c.value(row) ?? '',
        cell: ({ row }) => (c.cell ? c.cell(row.original) : c.value(row.original)),
        sortingFn: 'alphanumeric',
      })),
    [columns],
  );
  // eslint-disable-next-line react-hooks/incompatible-library -- its functions are called, never kept
  const table = useReactTable({
    data: rows,
    columns: defs,
    getRowId: keyOf,
    state: { sorting, globalFilter: search, columnVisibility: spare, rowSelection: chosen },
    onSortingChange: (change) => {
      const next = typeof change === 'function' ? change(sorting) : change;
      put('order', next[0] ? `${next[0].id}:${next[0].desc ? 'down' : 'up'}` : '');
    },
    onColumnVisibilityChange: setSpare,
    onRowSelectionChange: setChosen,
    enableRowSelection: (row) => choose?.can(row.original) ?? false,
    globalFilterFn: 'includesString',
    getCoreRowModel: getCoreRowModel(),
    getSortedRowModel: getSortedRowModel(),
    getFilteredRowModel: getFilteredRowModel(),
  });
  const shown = table.getRowModel().rows;
  const picked = table.getSelectedRowModel().rows.map((r) => r.original);
  const right = new Set(columns.filter((c) => c.right).map((c) => c.id));
  const exported = () =>
    shown.map((r) => Object.fromEntries(table.getVisibleLeafColumns().map((c) => [String(c.columnDef.header), r.getValue(c.id)])));
  const scroller = useRef<HTMLDivElement>(null);
  const virtual = shown.length > manyRows;
  const rowsInSight = useVirtualizer({
    count: virtual ? shown.length : 0,
    getScrollElement: () => scroller.current,
    estimateSize: () => rowHeight,
    overscan: 15,
  });
  const inSight = rowsInSight.getVirtualItems();
  const before = inSight[0]?.start ?? 0;
  const after = virtual ? rowsInSight.getTotalSize() - (inSight.at(-1)?.end ?? 0) : 0;
  const drawn = virtual ? inSight.map((i) => shown[i.index]).filter((r): r is Row<T> => r !== undefined) : shown;
  if (rows.length === 0) return <div className="empty">{empty}</div>;
  return (
    <>
      <div className="lines-tools no-print">
        <TextInput
          aria-label={`search ${name}`}
          placeholder={`Search ${String(rows.length)} ${name}`}
          value={search}
          onChange={(e) => put('find', e.currentTarget.value)}
          w={220}
        />
        {tools}
        <span className="soft" role="status">
          {search ? `${String(shown.length)} of ${String(rows.length)}` : ''}
        </span>
        <span className="end">
          {picked.length > 0 && choose?.acts(picked, () => setChosen({}))}
          <Menu position="bottom-end" closeOnItemClick={false}>
            <Menu.Target>
              <Button variant="subtle" size="compact-sm">
                Columns
              </Button>
            </Menu.Target>
            <Menu.Dropdown>
              {table
                .getAllLeafColumns()
                .filter((c) => c.columnDef.header !== '')
                .map((c) => (
                  <Menu.Item key={c.id} onClick={() => c.toggleVisibility()}>
                    <Checkbox readOnly tabIndex={-1} checked={c.getIsVisible()} label={String(c.columnDef.header)} />
                  </Menu.Item>
                ))}
            </Menu.Dropdown>
          </Menu>
          <Menu position="bottom-end">
            <Menu.Target>
              <Button variant="subtle" size="compact-sm">
                Export
              </Button>
            </Menu.Target>
            <Menu.Dropdown>
              <Menu.Item onClick={() => save(`${name}.csv`, csvOf(exported()), 'text/csv')}>CSV</Menu.Item>
              <Menu.Item onClick={() => save(`${name}.json`, JSON.stringify(exported(), null, 2), 'application/json')}>JSON</Menu.Item>
            </Menu.Dropdown>
          </Menu>
        </span>
      </div>
      <div
        className="lines-scroll"
        ref={scroller}
        style={{ maxHeight: height }}
        tabIndex={height || virtual ? 0 : undefined}
        role="region"
        aria-label={`list of ${name}`}
      >
        <table className="lines" aria-rowcount={shown.length}>
          <thead>
            {table.getHeaderGroups().map((g) => (
              <tr key={g.id}>
                {choose && (
                  <th>
                    <Checkbox
                      aria-label="choose all"
                      checked={table.getIsAllRowsSelected() && picked.length > 0}
                      indeterminate={picked.length > 0 && !table.getIsAllRowsSelected()}
                      onChange={table.getToggleAllRowsSelectedHandler()}
                    />
                  </th>
                )}
                {g.headers.map((h) => (
                  <th
                    key={h.id}
                    className={right.has(h.column.id) ? 'n' : undefined}
                    aria-sort={
                      h.column.getIsSorted() === 'asc' ? 'ascending' : h.column.getIsSorted() === 'desc' ? 'descending' : undefined
                    }
                  >
                    <button type="button" className="bare sort" onClick={h.column.getToggleSortingHandler()}>
                      {flexRender(h.column.columnDef.header, h.getContext())}
                      <span aria-hidden="true">{{ asc: ' ↑', desc: ' ↓' }[h.column.getIsSorted() as string] ?? ''}</span>
                    </button>
                  </th>
                ))}
              </tr>
            ))}
          </thead>
          <tbody>
            {before > 0 && <tr style={{ height: before }} aria-hidden="true" />}
            {drawn.map((row) => (
              <tr
                key={row.id}
                aria-selected={row.id === openKey || row.getIsSelected() || undefined}
                aria-rowindex={row.index + 2}
                className={onOpen ? 'opens' : undefined}
                onClick={onOpen && (() => onOpen(row.original))}
              >
                {choose && (
                  <td onClick={(e) => e.stopPropagation()}>
                    <Checkbox
                      aria-label={`choose ${row.id}`}
                      checked={row.getIsSelected()}
                      disabled={!row.getCanSelect()}
                      onChange={row.getToggleSelectedHandler()}
                    />
                  </td>
                )}
                {row.getVisibleCells().map((cell) => (
                  <td key={cell.id} className={right.has(cell.column.id) ? 'n' : undefined}>
                    {flexRender(cell.column.columnDef.cell, cell.getContext())}
                  </td>
                ))}
              </tr>
            ))}
            {after > 0 && <tr style={{ height: after }} aria-hidden="true" />}
          </tbody>
        </table>
        {shown.length === 0 && <p className="empty">Nothing here has “{search}” in it.</p>}
        {more}
      </div>
    </>
  );
}
