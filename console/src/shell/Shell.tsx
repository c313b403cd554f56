import { AppShell, Burger, Button, Menu, TextInput, UnstyledButton, useMantineColorScheme } from '@mantine/core';
import { useDisclosure, useHotkeys } from '@mantine/hooks';
import { useState, type ReactNode } from 'react';
import { Link, NavLink, useNavigate } from 'react-router';
import { State } from '../parts/State';
import { actingName, api, setActingName, told } from '../shared/client';
import { useEstate, useFollowUps, useMe, useOpenRuns, useService } from '../shared/queries';
import { Search } from './Search';
import './shell.css';

const pages = [
  [['/', 'Now']],
  [
    ['/estate', 'Estate'],
    ['/estate/map', 'Map'],
    ['/documents', 'Documents'],
    ['/catalogue', 'Catalogue'],
  ],
  [
    ['/plans', 'Plans'],
    ['/runs', 'Runs'],
  ],
  [
    ['/points', 'Rollback points'],
    ['/follow-ups', 'Follow-ups'],
    ['/artefacts', 'Artefacts'],
    ['/notices', 'Notices'],
  ],
  [
    ['/service', 'Service'],
    ['/people', 'People'],
    ['/record', 'Record'],
  ],
] as const;

/** Keys that lead to a page: g, then the letter. */
export const ways = [
  ['n', '/', 'Now'],
  ['e', '/estate', 'Estate'],
  ['m', '/estate/map', 'Map'],
  ['d', '/documents', 'Documents'],
  ['c', '/catalogue', 'Catalogue'],
  ['p', '/plans', 'Plans'],
  ['r', '/runs', 'Runs'],
  ['f', '/follow-ups', 'Follow-ups'],
] as const;

/** What stands around every page: where one can go, the estate, what is going on now, search, and who acts. */
export function Shell({ children }: { children: ReactNode }) {
  const [open, { toggle, close }] = useDisclosure();
  const [searching, search] = useDisclosure();
  const [going, setGoing] = useState(false);
  const estate = useEstate();
  const followUps = useFollowUps();
  const service = useService();
  const go = useNavigate();
  useHotkeys([
    ['/', () => search.open()],
    ['mod+K', () => search.open()],
    ['shift+?', () => void go('/keys')],
    ['g', () => setGoing(true)],
    ...ways.map(([key, to]): [string, () => void] => [
      key,
      () => {
        if (going) void go(to);
        setGoing(false);
      },
    ]),
  ]);
  return (
    <AppShell
      header={{ height: 48 }}
      navbar={{ width: 172, breakpoint: 'sm', collapsed: { mobile: !open } }}
      padding={0}
      transitionDuration={0}
    >
      <AppShell.Header className="head no-print">
        <Burger opened={open} onClick={toggle} hiddenFrom="sm" size="sm" aria-label="pages" />
        <Link to="/" className="product">
          Tide Step
        </Link>
        <span className="estate-name">{estate.data?.title ?? (estate.error ? 'no estate yet' : '')}</span>
        <GoingOn />
        <Button variant="default" onClick={search.open} className="search-button" aria-keyshortcuts="/">
          Search <kbd>/</kbd>
        </Button>
        <Person />
      </AppShell.Header>
      <AppShell.Navbar className="nav no-print" aria-label="pages">
        {pages.map((group) => (
          <div key={group[0][0]} className="nav-group">
            {group.map(([to, title]) => (
              <NavLink key={to} to={to} end={to === '/' || to === '/estate'} onClick={close}>
                {title}
                {to === '/follow-ups' && followUps.data && followUps.data.lines.length > 0 && (
                  <span className="nav-count">{followUps.data.lines.length}</span>
                )}
              </NavLink>
            ))}
          </div>
        ))}
        {service.data?.guide && (
          <NavLink to="/try" className="nav-try" onClick={close}>
            What to try
          </NavLink>
        )}
        <NavLink to="/keys" className="nav-keys" onClick={close}>
          Keys <kbd>?</kbd>
        </NavLink>
      </AppShell.Navbar>
      <AppShell.Main>
        <div className="page">{children}</div>
      </AppShell.Main>
      <Search opened={searching} onClose={search.close} />
    </AppShell>
  );
}

/** What is going on now, wherever one is: halts before what waits, before what is at work. */
function GoingOn() {
  const runs = useOpenRuns();
  if (runs.error)
    return (
      <span className="going problem" role="status">
        The service does not answer
      </span>
    );
  const lines = runs.data?.lines ?? [];
  const halted = lines.filter((r) => r.status === 'halted');
  const waiting = lines.filter((r) => r.status === 'waiting' || r.status === 'held' || r.status === 'holding');
  const working = lines.filter((r) => ['running', 'returning', 'closing'].includes(r.status));
  const told = [
    ['halted', halted, 'halted'],
    ['waiting', waiting, 'waiting'],
    ['running', working, 'at work'],
  ] as const;
  const some = told.filter(([, which]) => which.length > 0);
  return (
    <span className="going">
      {runs.data && some.length === 0 && <span className="soft">No run is at work</span>}
      {some.map(([state, which, word]) => (
        <Link key={state} to={which.length === 1 ? `/runs/${which[0]?.run ?? ''}` : '/runs'}>
          <State of={state}>
            {which.length === 1 ? `${which[0]?.label || which[0]?.run || ''}: ${word}` : `${String(which.length)} runs ${word}`}
          </State>
        </Link>
      ))}
    </span>
  );
}

/** Who acts: asked once, kept in this browser, and put on everything done; and how the console looks. */
function Person() {
  const [name, setName] = useState(actingName);
  const { colorScheme, setColorScheme } = useMantineColorScheme();
  const me = useMe();
  const shown = me.data?.named ? me.data.name : name;
  return (
    <Menu position="bottom-end" width={240} closeOnItemClick={false} keepMounted={shown === ''} trapFocus={false}>
      <Menu.Target>
        <UnstyledButton className={shown ? 'person' : 'person unnamed'}>{shown || 'Who are you?'}</UnstyledButton>
      </Menu.Target>
      <Menu.Dropdown>
        {me.data?.named ? (
          <div className="person-form">
            <strong>{me.data.name}</strong>
            <div className="soft">{me.data.roles.length > 0 ? `may ${me.data.roles.join(', ')}` : 'has no role yet'}</div>
          </div>
        ) : (
          <div className="person-form">
            <TextInput
              label="Acting as"
              description="Stands under all that you do"
              value={name}
              onChange={(e) => {
                setName(e.currentTarget.value);
                setActingName(e.currentTarget.value);
              }}
            />
          </div>
        )}
        <Menu.Divider />
        <Menu.Item
          onClick={() => {
            void told(api.POST('/api/sign-out')).then(() => globalThis.location.assign('/'));
          }}
        >
          Sign out
        </Menu.Item>
        <Menu.Divider />
        <Menu.Label>Looks</Menu.Label>
        {(
          [
            ['auto', 'As the machine'],
            ['light', 'Light'],
            ['dark', 'Dark'],
          ] as const
        ).map(([scheme, word]) => (
          <Menu.Item key={scheme} onClick={() => setColorScheme(scheme)} aria-current={colorScheme === scheme || undefined}>
            {word}
            {colorScheme === scheme && ' ✓'}
          </Menu.Item>
        ))}
      </Menu.Dropdown>
    </Menu>
  );
}
