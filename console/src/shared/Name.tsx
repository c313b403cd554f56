import { useState } from 'react';
import { actingName, setActingName } from './api';

/** Who acts: asked once, kept in this browser, and put on everything done. */
export function Name() {
  const [name, setName] = useState(actingName());
  return (
    <label className="who soft">
      acting as{' '}
      <input
        value={name}
        placeholder="your name"
        size={16}
        onChange={(e) => {
          setName(e.target.value);
          setActingName(e.target.value);
        }}
      />
    </label>
  );
}
