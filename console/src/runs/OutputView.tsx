import { Button, Checkbox, TextInput } from '@mantine/core';
import { useQuery } from '@tanstack/react-query';
import { useEffect, useRef, useState } from 'react';
import { Trouble } from '../parts/Loaded';
import { api, told } from '../shared/client';
import { save } from '../shared/files';

/** An attempt's output, while it runs and afterwards. */
export const useOutput = (run: string, attempt: string | undefined, live: boolean) =>
  useQuery({
    queryKey: ['output', run, attempt],
    queryFn: () =>
      told(
        api.GET('/api/runs/{run}/outputs/{attempt}', { params: { path: { run, attempt: attempt ?? '' } }, parseAs: 'text' }),
      ) as Promise<string>,
    enabled: attempt !== undefined,
    refetchInterval: live ? 1000 : false,
  });

/** A text of many lines: searched, followed to its end, wrapped or not, saved. */
export function TextView({ text, name, live = false, height = '46vh' }: { text: string; name: string; live?: boolean; height?: string }) {
  const [find, setFind] = useState('');
  const [only, setOnly] = useState(false);
  const [wrap, setWrap] = useState(true);
  const [follow, setFollow] = useState(live);
  const box = useRef<HTMLPreElement>(null);
  useEffect(() => {
    if (follow && box.current) box.current.scrollTop = box.current.scrollHeight;
  }, [text, follow]);
  const lines = text.split('\n');
  const has = (line: string) => find !== '' && line.toLowerCase().includes(find.toLowerCase());
  const hits = find === '' ? 0 : lines.filter(has).length;
  const shown = only && find !== '' ? lines.filter(has) : lines;
  return (
    <>
      <div className="lines-tools no-print">
        <TextInput
          aria-label={`search ${name}`}
          placeholder="Search"
          w={180}
          value={find}
          onChange={(e) => setFind(e.currentTarget.value)}
        />
        {find !== '' && (
          <>
            <span role="status" className="soft">
              {hits} of {lines.length} lines
            </span>
            <Checkbox label="Only these" checked={only} onChange={(e) => setOnly(e.currentTarget.checked)} />
          </>
        )}
        <span className="end">
          <Checkbox label="Follow" checked={follow} onChange={(e) => setFollow(e.currentTarget.checked)} />
          <Checkbox label="Wrap" checked={wrap} onChange={(e) => setWrap(e.currentTarget.checked)} />
          <Button variant="subtle" size="compact-sm" onClick={() => save(`${name}.txt`, text)}>
            Save
          </Button>
        </span>
      </div>
      <pre
        ref={box}
        className="output"
        tabIndex={0}
        aria-label={name}
        style={{ whiteSpace: wrap ? 'pre-wrap' : 'pre', maxHeight: height }}
        onWheel={() => setFollow(false)}
      >
        {find === ''
          ? text || 'No output.'
          : shown.map((line, i) => (
              <span key={i} className={has(line) ? 'hit' : undefined}>
                {line + '\n'}
              </span>
            ))}
      </pre>
    </>
  );
}

/** The output of one attempt. */
export function OutputView({ run, attempt, name, live }: { run: string; attempt: string; name: string; live: boolean }) {
  const output = useOutput(run, attempt, live);
  if (output.error) return <Trouble of={output.error} />;
  if (output.data === undefined) return <p className="soft">Reading the output …</p>;
  return <TextView text={output.data} name={name} live={live} />;
}
