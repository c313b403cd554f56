/** Seconds of an ISO 8601 duration as the service writes them (PT1H2M3.5S, P1DT2H). */
export function seconds(duration: string): number {
  const match = /^(-)?P(?:(\d+)D)?(?:T(?:(\d+)H)?(?:(\d+)M)?(?:([\d.]+)S)?)?$/.exec(duration);
  if (!match) return 0;
  const [, sign, d, h, m, s] = match;
  const total = Number(d ?? 0) * 86400 + Number(h ?? 0) * 3600 + Number(m ?? 0) * 60 + Number(s ?? 0);
  return sign ? -total : total;
}

/** A span for people: 40 s, 6 min, 1 h 25 min. */
export function span(total: number): string {
  if (total < 60) return `${String(Math.round(total))} s`;
  const minutes = Math.round(total / 60);
  if (minutes < 60) return `${String(minutes)} min`;
  return minutes % 60 === 0 ? `${String(minutes / 60)} h` : `${String(Math.floor(minutes / 60))} h ${String(minutes % 60)} min`;
}

/** A time of day; the date stands beside it where it matters. */
export const clock = (time: string) => new Date(time).toLocaleTimeString('en-GB');

/** A time of day, with its day where that is not today. */
export function moment(time: string, now: number): string {
  const at = new Date(time);
  if (at.toDateString() === new Date(now).toDateString()) return clock(time);
  const on = at.toLocaleDateString('en-GB', { weekday: 'short', day: 'numeric', month: 'short' });
  return `${on}, ${at.toLocaleTimeString('en-GB', { hour: '2-digit', minute: '2-digit' })}`;
}

/** A day; the time of day beside it does not matter. */
export const day = (time: string) => new Date(time).toLocaleDateString('en-GB', { day: 'numeric', month: 'short', year: 'numeric' });

export const words = (state: string) => state.replaceAll('-', ' ');

/** A decision by itself, where nobody says how far a return is to lead. */
export const decisionWords = (decision: string) => (decision === 'return-as-far-as' ? 'return' : words(decision));

/** A shape for each state, so that colour is never all that tells it. */
export function mark(status: string): string {
  switch (status) {
    case 'done':
    case 'completed':
      return '■';
    case 'failed':
    case 'halted':
      return '✕';
    case 'ahead':
    case 'pending':
    case 'ready':
      return '·';
    case 'returned':
    case 'reverted':
    case 'returning':
      return '◂';
    case 'held':
    case 'holding':
      return '‖';
    case 'waiting':
      return '◷';
    default:
      return '▶';
  }
}

/** A size for people, in binary steps. */
export function size(bytes: number): string {
  const units = ['B', 'KiB', 'MiB', 'GiB', 'TiB'];
  const step = bytes < 1 ? 0 : Math.min(units.length - 1, Math.floor(Math.log2(bytes) / 10));
  return `${(bytes / 1024 ** step).toLocaleString('en-GB', { maximumFractionDigits: 1 })} ${units[step] ?? ''}`;
}
