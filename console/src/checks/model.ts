/** Shapes of rounds of checks as the service answers them. */
export interface Waiver {
  finding: string;
  by: string;
  second?: string;
  needsSecond: boolean;
  reason: string;
  ends: string;
}
export interface Finding {
  id?: string;
  check: string;
  subject: string;
  level: 'blocker' | 'caution' | 'advice';
  result: 'passed' | 'failed' | 'open' | 'not-applicable';
  what: string;
  remedy?: string;
  moves: number[];
  node?: string;
  found?: string;
  needed?: string;
  short?: string;
  evidence: { reference: string; value: string }[];
  waived?: Waiver;
}
export interface Round {
  number: number;
  summary: string;
  round: { at: string; plan: string; readingsOf: string; findings: Finding[] };
}

export const idOf = (f: Finding) => `${f.check} ${f.subject}`;

/** Failed or open, and accepted by nobody. */
export const stands = (f: Finding) => (f.result === 'failed' || f.result === 'open') && !f.waived;

/** A shape and a word for each finding, so that colour is never all that tells it. */
export function sign(f: Finding): { mark: string; word: string } {
  if (f.waived) return { mark: '◇', word: 'accepted' };
  switch (f.result) {
    case 'passed':
      return { mark: '■', word: 'passed' };
    case 'not-applicable':
      return { mark: '–', word: 'does not apply' };
    default:
      return {
        mark: f.level === 'blocker' ? '✕' : f.level === 'caution' ? '▲' : '·',
        word: f.result === 'open' ? `${f.level}, open` : f.level,
      };
  }
}

/** The findings in the order of what has to be done: what stands by its level, then what was accepted, then the rest by check. */
export function groups(findings: Finding[]): { title: string; findings: Finding[]; folded: boolean }[] {
  const of = (level: Finding['level']) => findings.filter((f) => stands(f) && f.level === level);
  return [
    { title: 'Stands in the way', findings: of('blocker'), folded: false },
    { title: 'To be known', findings: of('caution'), folded: false },
    { title: 'Advice', findings: of('advice'), folded: false },
    { title: 'Accepted', findings: findings.filter((f) => f.waived), folded: false },
    { title: 'Passed', findings: findings.filter((f) => f.result === 'passed'), folded: true },
    { title: 'Does not apply', findings: findings.filter((f) => f.result === 'not-applicable'), folded: true },
  ].filter((g) => g.findings.length > 0);
}
