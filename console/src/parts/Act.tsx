import { Button, Tooltip, type ButtonProps } from '@mantine/core';
import type { ComponentPropsWithoutRef } from 'react';
import { useMay, type Call } from '../shared/may';

/**
 * A button that makes a call which takes a role. Whoever lacks it sees that it is there, that it is not theirs, and who
 * has it; it can be reached by the keyboard, so that this is read there too.
 */
export function Act({ call, ...button }: { call: Call } & ButtonProps & ComponentPropsWithoutRef<'button'>) {
  const whyNot = useMay(call);
  if (whyNot === undefined) return <Button {...button} />;
  return (
    <Tooltip label={whyNot} multiline maw={320} withinPortal events={{ hover: true, focus: true, touch: true }}>
      <Button
        {...button}
        loading={false}
        disabled={false}
        data-disabled
        aria-disabled
        aria-description={whyNot}
        onClick={(event) => event.preventDefault()}
      />
    </Tooltip>
  );
}
