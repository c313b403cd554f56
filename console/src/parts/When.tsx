import { fully, moment } from '../shared/times';
import { useNow } from '../shared/useNow';

/** A moment: the time of day, with its day where that is not today; all of it, in both zones, as its hint. */
export function When({ at }: { at: string }) {
  const now = useNow(30_000);
  return (
    <time dateTime={at} title={fully(at)} className="nowrap">
      {moment(at, now)}
    </time>
  );
}
