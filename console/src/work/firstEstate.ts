import { stringify } from 'yaml';

/** A host as somebody named it. */
export interface Host {
  name: string;
  address?: string;
  user?: string;
  port?: number;
}

/** Hosts out of a list of names or an OpenSSH configuration; patterns and what is for all hosts are left out. */
export function hostsOf(text: string): Host[] {
  const lines = text.split('\n').map((l) => l.trim());
  const configured = lines.some((l) => /^host\s/i.test(l));
  const hosts: Host[] = [];
  let these: Host[] = [];
  for (const line of lines) {
    if (line === '' || line.startsWith('#')) continue;
    const [, key = '', value = ''] = /^(\S+)[\s=]+(.*)$/.exec(line) ?? [];
    if (!configured) hosts.push(...line.split(/[\s,;]+/).map((name) => ({ name })));
    else if (/^host$/i.test(key)) {
      these = value
        .split(/\s+/)
        .filter((n) => !/[*?!]/.test(n))
        .map((name) => ({ name }));
      hosts.push(...these);
    } else if (/^hostname$/i.test(key)) these.forEach((h) => (h.address = value));
    else if (/^user$/i.test(key)) these.forEach((h) => (h.user = value));
    else if (/^port$/i.test(key)) these.forEach((h) => (h.port = Number(value)));
    else if (/^match$/i.test(key)) these = [];
  }
  const seen = new Set<string>();
  return hosts.filter((h) => !seen.has(h.name) && seen.add(h.name));
}

/** The first estate of these hosts, as its document; reached under an account where a host names none. */
export function estateOf(hosts: Host[], account: string): string {
  const nodes = Object.fromEntries(
    hosts.map((h) => [
      h.name,
      {
        site: 'main',
        reach: {
          by: 'ssh',
          address: h.address ?? h.name,
          account: h.user ?? account,
          ...(h.port && { port: h.port }),
          key: 'secret:ssh',
          'host-keys': 'known_hosts',
        },
      },
    ]),
  );
  return stringify({
    tidestep: 'estate/1',
    estate: { id: 'first', title: 'My estate', class: 'test', zone: Intl.DateTimeFormat().resolvedOptions().timeZone },
    sites: { main: {} },
    nodes,
  });
}
