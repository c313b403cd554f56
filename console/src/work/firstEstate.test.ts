import { expect, it } from 'vitest';
import { estateOf, hostsOf } from './firstEstate';

it('reads names one a line or several', () => {
  expect(hostsOf('app-1\napp-2, app-3\n# no host\napp-1').map((h) => h.name)).toEqual(['app-1', 'app-2', 'app-3']);
});

it('reads hosts of an OpenSSH configuration, and leaves out patterns', () => {
  const text = 'Host *\n  User ops\nHost app-1 app-2\n  HostName 10.0.0.1\n  User root\n  Port 2222\nMatch all\n  User x';
  expect(hostsOf(text)).toEqual([
    { name: 'app-1', address: '10.0.0.1', user: 'root', port: 2222 },
    { name: 'app-2', address: '10.0.0.1', user: 'root', port: 2222 },
  ]);
});

it('makes an estate that says how each host is reached', () => {
  const text = estateOf([{ name: 'app-1', user: 'ops' }, { name: 'app-2' }], 'tide');
  expect(text).toMatch(/^tidestep: estate\/1/);
  expect(text).toContain('account: ops');
  expect(text).toContain('account: tide');
  expect(text).toContain('host-keys: known_hosts');
});
