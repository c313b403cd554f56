/** What a new document of a kind begins with. */
export const patterns: Record<string, string> = {
  estate: `tidestep: estate/1
estate: {id: my-estate, title: My estate, class: test, zone: UTC}

sites:
  main: {}

nodes:
  app-1: {site: main, reach: {by: ssh, address: app-1, account: ops, key: "secret:ssh"}}

components:
  app:
    product: app
    members: [app-1]
`,
  product: `tidestep: product/1
product: {id: app, title: App}

releases:
  - {version: "1.0"}
  - {version: "1.1"}

jumps:
  - {from: "1.0", to: "1.1", by: rolling, change: [install]}

steps:
  install: {title: install the release, do: {install: app}, limit: 10 min}
`,
  notices: `tidestep: notices/1
notices:
  night-desk: {to: mail, target: night@example.org, at: [halt, person, end]}
`,
};

export const newDocuments = [
  { title: 'Product', to: '/documents/product/new' },
  { title: 'Estate', to: '/documents/estate/estate' },
  { title: 'Notices', to: '/documents/notices/notices' },
];
