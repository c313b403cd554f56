import { useQuery } from '@tanstack/react-query';
import { Loaded } from '../parts/Loaded';
import { PageHead } from '../parts/Panel';
import { Prose } from '../parts/Prose';
import { api, told } from '../shared/client';

/** What to try on a service that was started to be tried, in the words of whoever set it up. */
export function TryPage() {
  const guide = useQuery({ queryKey: ['guide'], queryFn: () => told(api.GET('/api/guide')), retry: false });
  return (
    <>
      <PageHead title="What to try" />
      <Loaded query={guide} what="the guide">
        {({ text }) => <Prose text={text} />}
      </Loaded>
    </>
  );
}
