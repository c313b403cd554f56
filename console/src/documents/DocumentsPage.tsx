import { Button, Menu } from '@mantine/core';
import { useQuery } from '@tanstack/react-query';
import { Link } from 'react-router';
import { Lines, type Column } from '../parts/Lines';
import { Loaded } from '../parts/Loaded';
import { PageHead, Panel } from '../parts/Panel';
import { State } from '../parts/State';
import { When } from '../parts/When';
import { api, told } from '../shared/client';
import type { Shapes } from '../shared/shapes';
import { size } from '../shared/times';
import { newDocuments } from './patterns';

type Line = Shapes['DocumentLine'];

const columns: Column<Line>[] = [
  {
    id: 'document',
    head: 'Document',
    value: (d) => d.id,
    cell: (d) => <Link to={`/documents/${d.kind}/${encodeURIComponent(d.id)}`}>{d.id}</Link>,
  },
  { id: 'kind', head: 'Kind', value: (d) => d.kind },
  {
    id: 'state',
    head: 'State',
    value: (d) => d.damaged ?? 'whole',
    cell: (d) => (d.damaged ? <State of="damaged">{d.damaged}</State> : <State of="good">whole</State>),
  },
  { id: 'revision', head: 'Revision', value: (d) => d.revision, right: true },
  { id: 'at', head: 'Kept', value: (d) => d.at, cell: (d) => <When at={d.at} /> },
  { id: 'by', head: 'By', value: (d) => d.by },
  { id: 'length', head: 'Length', value: (d) => d.length, cell: (d) => size(d.length), right: true },
];

/** The documents that everything else is made from: the estate, the products, the notices. */
export function DocumentsPage() {
  const documents = useQuery({ queryKey: ['documents'], queryFn: () => told(api.GET('/api/documents')) });
  return (
    <>
      <PageHead
        title="Documents"
        actions={
          <Menu position="bottom-end">
            <Menu.Target>
              <Button>New document</Button>
            </Menu.Target>
            <Menu.Dropdown>
              {newDocuments.map((n) => (
                <Menu.Item key={n.to} component={Link} to={n.to}>
                  {n.title}
                </Menu.Item>
              ))}
            </Menu.Dropdown>
          </Menu>
        }
      />
      <Panel label="documents">
        <Loaded query={documents} what="the documents">
          {(lines) => (
            <Lines
              name="documents"
              rows={lines}
              columns={columns}
              keyOf={(d) => `${d.kind}/${d.id}`}
              empty="No document is kept yet. Begin with the estate: what stands where, and how it is reached."
              height="calc(100vh - 13rem)"
            />
          )}
        </Loaded>
      </Panel>
    </>
  );
}
