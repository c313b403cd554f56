/** How much of something is done, as a small bar and a number. */
export function Share({ of: share }: { of: number }) {
  const percent = Math.round(share * 100);
  return (
    <span className="nowrap">
      <span className="bar" aria-hidden="true">
        <span style={{ width: `${String(percent)}%` }} />
      </span>
      {percent} %
    </span>
  );
}
