/** What a new document of a kind begins with; each can be kept as it stands. */
export const patterns: Record<string, string> = {
  estate: `tidestep: estate/1
estate: {id: my-estate, title: My estate, class: test, zone: UTC}

sites:
  main: {}

nodes:
  "app-[1-3]": {site: main, reach: {by: person}}

components:
  app:
    product: app
    members: ["app-[1-3]"]
    guard: {keep: 2}
`,
  product: `tidestep: product/1
product: {id: app, title: App}

# What there is, and until when its maker supports it.
releases:
  "1.0": {line: standard, since: 2024-01-15, ends: 2030-01-31}
  "1.1": {line: standard, since: 2026-01-15, ends: 2031-01-31}

# Which releases may follow one another, how, and how long it takes.
jumps:
  to-1.1:
    from: ">=1.0 <1.1"
    to: "1.1"
    methods: {rolling: {member: 5 min, settle: 1 min}}
    change: [install]
  back-to-1.0: {from: "1.1", to: "1.0", down: true, methods: {rolling: {member: 5 min, settle: 1 min}}, change: [install-down]}

# What is done around each change, and when a member is back.
routines:
  leave: [stop]
  return: [start]
  in-step: {holds: running = installed, within: 5 min}

steps:
  stop: {title: stop it, do: {stop: app}, repeatable: true, takes: 30 s}
  install: {title: install, do: {install: app, version: "{jump.to}"}, already: installed = jump.to, takes: 2 min}
  install-down: {title: install the former release, do: {install: app, version: "{jump.to}", allow-down: true}, already: installed = jump.to, takes: 2 min}
  start: {title: start it, do: {start: app}, repeatable: true, takes: 30 s}
`,
  notices: `tidestep: notices/1
notices:
  night-desk: {to: mail, people: [night@example.org], at: [halted, decision-open, done, returned]}
mail: {host: 127.0.0.1, port: 25, from: tide-step@example.org, encryption: none}
`,
};

export const newDocuments = [
  { title: 'Product', to: '/documents/product/new' },
  { title: 'Estate', to: '/documents/estate/estate' },
  { title: 'Notices', to: '/documents/notices/notices' },
];
