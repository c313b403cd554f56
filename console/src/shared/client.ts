import createClient, { type Middleware } from 'openapi-fetch';
import type { components, paths } from './openapi';

/** What the service found wrong, with its place where it has one. */
export interface Problem {
  what: string;
  detail?: string;
  hint?: string;
  at?: { file: string; line: number; column: number };
}

/** A refusal of the service, with what to do about it. */
export class Refused extends Error {
  constructor(
    message: string,
    readonly status: number,
    readonly problems: Problem[],
  ) {
    super(message);
  }
}

/** Who is signed in, as the service knows them. */
export type Me = components['schemas']['MeView'];

let known: Me | undefined;

/** Who is signed in is known from now on: their name stands on what is done, and their session goes along. */
export function setKnown(me: Me | undefined) {
  if (known?.id === me?.id && known?.session === me?.session && known?.name === me?.name) return;
  known = me;
  for (const tell of nameListeners) tell();
}

const nameKey = 'tide-step-name';
/** The name that stands on what is done: that of who is signed in, or what was typed where the local key is all there is. */
export const actingName = () => (known?.named ? known.name : (localStorage.getItem(nameKey) ?? ''));
export function setActingName(name: string) {
  localStorage.setItem(nameKey, name.trim());
  for (const tell of nameListeners) tell();
}

const nameListeners = new Set<() => void>();

/** Has a listener told when somebody else acts from now on; what is given back ends it. */
export function onActingName(tell: () => void) {
  nameListeners.add(tell);
  return () => {
    nameListeners.delete(tell);
  };
}

const endListeners = new Set<() => void>();

/** Has a listener told when the session has ended; what is given back ends it. */
export function onSessionEnded(tell: () => void) {
  endListeners.add(tell);
  return () => {
    endListeners.delete(tell);
  };
}

let ahead = 0;

/** Now, by the service's clock, which need not be this machine's. */
export const now = () => Date.now() + ahead;

/** A moment of this machine's clock by the service's. */
export const byService = (at: number) => at + ahead;

function hear(response: Response) {
  const told = Date.parse(response.headers.get('date') ?? '');
  // The header tells whole seconds; less than that is no difference.
  if (!Number.isNaN(told)) ahead = Math.abs(told - Date.now()) > 2000 ? told - Date.now() : 0;
}

/** Who acts goes along with all that is done; what starts or decides something is done once, however often it is sent. */
const acting: Middleware = {
  onRequest({ request }) {
    if (request.method === 'GET') return undefined;
    request.headers.set('Tide-Step-Name', encodeURIComponent(actingName()));
    if (known?.session) request.headers.set('Tide-Step-Session', known.session);
    if (request.method === 'POST') request.headers.set('Idempotency-Key', crypto.randomUUID());
    return request;
  },
  onResponse({ response, request }) {
    hear(response);
    if (response.status === 401 && !request.url.endsWith('/api/sign-in')) for (const tell of endListeners) tell();
    return undefined;
  },
};

/** Calls of the service, with the paths and shapes of its OpenAPI document. */
export const api = createClient<paths>({
  baseUrl: globalThis.location.origin,
  fetch: (request) => globalThis.fetch(request),
});
api.use(acting);

/** A refusal out of an answer's problem document (RFC 9457). */
export function refusalOf(body: unknown, status: number): Refused {
  const told = (typeof body === 'object' && body !== null ? body : {}) as { title?: string; problems?: Problem[] };
  const problems = told.problems ?? [];
  const words = problems.map((p) => `${p.what}${p.hint ? ` — ${p.hint}` : ''}`).join('\n');
  return new Refused(words || (told.title ?? `the service answered ${String(status)}`), status, problems);
}

/** What was answered; a refusal is thrown. */
export async function told<T>(answer: Promise<{ data?: T; error?: unknown; response: Response }>): Promise<T> {
  const { data, error, response } = await answer;
  if (response.ok) return data as T;
  throw refusalOf(error, response.status);
}

type Lines<P> = P extends { get: { responses: { 200: { content: { 'application/json': (infer L)[] } } } } } ? L : never;

/** The addresses that answer with a list. */
export type ListPath = { [P in keyof paths]: Lines<paths[P]> extends never ? never : P }[keyof paths];

/** A list page after page, as the Link headers name them, up to so many lines; and whether there are more. */
export async function listed<P extends ListPath>(
  path: P,
  query: Record<string, string | number | boolean | undefined> = {},
  most = Infinity,
): Promise<{ lines: Lines<paths[P]>[]; more: boolean }> {
  const asked = Object.entries(query).filter(([, value]) => value !== undefined && value !== '');
  const address = `${path}?${new URLSearchParams(asked.map(([key, value]) => [key, String(value)])).toString()}`;
  const lines: Lines<paths[P]>[] = [];
  for (let next: string | undefined = address; next !== undefined && lines.length < most;) {
    const response: Response = await fetch(next);
    hear(response);
    const body: unknown = await response.json();
    if (!response.ok) throw refusalOf(body, response.status);
    lines.push(...(body as Lines<paths[P]>[]));
    next = /<([^>]*)>; *rel="next"/.exec(response.headers.get('link') ?? '')?.[1];
  }
  return lines.length > most ? { lines: lines.slice(0, most), more: true } : { lines, more: lines.length === most };
}
