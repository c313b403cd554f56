import { Checkbox } from '@mantine/core';

/** The roles, each with what it gives; no role gives more than it says. */
export const roles = [
  ['look', 'See everything but secrets and the record'],
  ['survey', 'Survey, and run checks'],
  ['plan', 'Paths, plans, rehearsals; accept findings'],
  ['run', 'Open, start, hold and decide runs; do a person’s steps'],
  ['sign', 'Sign off, and say a second word'],
  ['keep', 'Documents, artefacts, secrets'],
  ['administer', 'People, tokens, settings, the record'],
] as const;

/** Roles to pick; those for one estate alone are kept as they are. */
export function Roles({ value, onChange }: { value: string[]; onChange: (roles: string[]) => void }) {
  const others = value.filter((v) => !roles.some(([role]) => role === v));
  return (
    <Checkbox.Group label="Roles" value={value} onChange={onChange}>
      <div className="role-list">
        {roles.map(([role, gives]) => (
          <Checkbox key={role} value={role} label={role} description={gives} size="sm" />
        ))}
        {others.map((role) => (
          <Checkbox key={role} value={role} label={role} size="sm" />
        ))}
      </div>
    </Checkbox.Group>
  );
}
