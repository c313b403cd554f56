/** The one module for times, spans, numbers and zones. The estate's zone is the one of the work; the reader's own stands beside it where they differ. */

let estateZone: string | undefined;

/** Has all times shown in the estate's zone; the reader's own until it is known. */
export const setEstateZone = (zone: string) => {
  estateZone = zone;
};
export const ownZone = () => Intl.DateTimeFormat().resolvedOptions().timeZone;
export const zone = () => estateZone ?? ownZone();

const formats = new Map<string, Intl.DateTimeFormat>();
function format(options: Intl.DateTimeFormatOptions, of = zone()) {
  const key = of + JSON.stringify(options);
  let made = formats.get(key);
  if (!made) formats.set(key, (made = new Intl.DateTimeFormat('en-GB', { ...options, timeZone: of })));
  return made;
}
const dayOf = (at: Date, of?: string) => format({ year: 'numeric', month: '2-digit', day: '2-digit' }, of).format(at);

/** Seconds of an ISO 8601 duration as the service writes them (PT1H2M3.5S, P1DT2H). */
export function seconds(duration: string | undefined): number {
  const match = /^(-)?P(?:(\d+)D)?(?:T(?:(\d+)H)?(?:(\d+)M)?(?:([\d.]+)S)?)?$/.exec(duration ?? '');
  if (!match) return 0;
  const [, sign, d, h, m, s] = match;
  const total = Number(d ?? 0) * 86400 + Number(h ?? 0) * 3600 + Number(m ?? 0) * 60 + Number(s ?? 0);
  return sign ? -total : total;
}

/** A span for people: 40 s, 6 min, 1 h 25 min, 3 d 4 h. */
export function span(total: number): string {
  if (total < 60) return `${String(Math.round(total))} s`;
  const minutes = Math.round(total / 60);
  if (minutes < 60) return `${String(minutes)} min`;
  const hours = Math.floor(minutes / 60);
  if (hours >= 48) return hours % 24 === 0 ? `${String(hours / 24)} d` : `${String(Math.floor(hours / 24))} d ${String(hours % 24)} h`;
  return minutes % 60 === 0 ? `${String(hours)} h` : `${String(hours)} h ${String(minutes % 60)} min`;
}

/** A span that the service wrote, for people. */
export const spanOf = (duration: string | undefined) => span(seconds(duration));

/** A time of day in the estate's zone. */
export const clock = (time: string | number) => format({ hour: '2-digit', minute: '2-digit', second: '2-digit' }).format(new Date(time));

/** Hours and minutes of a moment in the estate's zone. */
export const hour = (time: string | number) => format({ hour: '2-digit', minute: '2-digit' }).format(new Date(time));

/** A time of day, with its day where that is not today. */
export function moment(time: string, now: number): string {
  const at = new Date(time);
  if (dayOf(at) === dayOf(new Date(now))) return clock(time);
  return `${format({ weekday: 'short', day: 'numeric', month: 'short' }).format(at)}, ${hour(time)}`;
}

/** A day; the time of day beside it does not matter. */
export const day = (time: string) => format({ day: 'numeric', month: 'short', year: 'numeric' }).format(new Date(time));

/** A day of this year. */
export const shortDay = (time: string) => format({ day: 'numeric', month: 'short' }).format(new Date(time));

/** A day with its weekday. */
export const weekday = (time: string) =>
  format({ weekday: 'short', day: 'numeric', month: 'short', year: 'numeric' }).format(new Date(time));

/** Everything about a moment, for a hint: in the estate's zone, and in the reader's own where it differs. */
export function fully(time: string): string {
  const options: Intl.DateTimeFormatOptions = { dateStyle: 'full', timeStyle: 'long' };
  const here = format(options).format(new Date(time));
  return zone() === ownZone() ? here : `${here}; for you ${format(options, ownZone()).format(new Date(time))}`;
}

/** How long ago something was, in the roughest words that still help. */
export function ago(time: string, now: number): string {
  const passed = (now - Date.parse(time)) / 1000;
  return passed < 60 ? 'just now' : `${span(passed)} ago`;
}

/** How far something lies ahead, or how late it is. */
export function until(time: string, now: number): string {
  const left = (Date.parse(time) - now) / 1000;
  return left >= 0 ? `in ${span(left)}` : `${span(-left)} overdue`;
}

/** A count with its thousands. */
export const count = (n: number) => n.toLocaleString('en-GB');

/** A noun in the number that it is there. */
export const many = (n: number, one: string, more = `${one}s`) => `${count(n)} ${n === 1 ? one : more}`;

/** A size for people, in binary steps. */
export function size(bytes: number): string {
  const units = ['B', 'KiB', 'MiB', 'GiB', 'TiB'];
  const step = bytes < 1 ? 0 : Math.min(units.length - 1, Math.floor(Math.log2(bytes) / 10));
  return `${(bytes / 1024 ** step).toLocaleString('en-GB', { maximumFractionDigits: 1 })} ${units[step] ?? ''}`;
}
