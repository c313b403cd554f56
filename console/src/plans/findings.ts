import type { Finding } from '../shared/shapes';

export const idOf = (f: Finding) => `${f.check} ${f.subject}`;

/** Failed or open, and accepted by nobody. */
export const stands = (f: Finding) => (f.result === 'failed' || f.result === 'open') && !f.waived;

/** The state and the word of a finding. */
export function sign(f: Finding): { state: string; word: string } {
  if (f.waived) return { state: 'accepted', word: 'accepted' };
  if (f.result === 'passed') return { state: 'passed', word: 'passed' };
  if (f.result === 'not-applicable') return { state: 'ahead', word: 'does not apply' };
  return {
    state: f.level === 'blocker' ? 'blocker' : f.level === 'caution' ? 'caution' : 'due',
    word: f.result === 'open' ? `${f.level}, open` : f.level,
  };
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
