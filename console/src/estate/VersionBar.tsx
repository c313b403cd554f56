import type { ComponentSummary } from '../shared/shapes';

/** A component's members as a bar of depths: the deeper, the newer the version; what is out of service or was not read is left open. */
export function VersionBar({ of: c }: { of: ComponentSummary }) {
  const known = c.versions.length;
  return (
    <span className="version-bar" aria-hidden="true">
      {c.versions.map((v, i) => (
        <span
          key={v.version}
          className={`depth-${String(known === 1 ? 3 : 1 + Math.round((i * 2) / Math.max(1, known - 1)))}`}
          style={{ flexGrow: v.members }}
        />
      ))}
      {c.notRead > 0 && <span className="unread" style={{ flexGrow: c.notRead }} />}
    </span>
  );
}
