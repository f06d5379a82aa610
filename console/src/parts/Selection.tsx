import { Checkbox } from '@mantine/core';
import { useState } from 'react';

/** What is selected in a table, by key. */
export interface Selection {
  has: (key: string) => boolean;
  pick: (keys: string[], on: boolean) => void;
  clear: () => void;
}

export function useSelection(): Selection {
  const [chosen, setChosen] = useState<ReadonlySet<string>>(new Set());
  return {
    has: (key) => chosen.has(key),
    pick: (keys, on) => setChosen(new Set(on ? [...chosen, ...keys] : [...chosen].filter((key) => !keys.includes(key)))),
    clear: () => setChosen(new Set()),
  };
}

/** Selects all rows that are shown, or none. */
export function SelectAll({ of, in: selection }: { of: string[]; in: Selection }) {
  const picked = of.filter(selection.has).length;
  return (
    <Checkbox
      aria-label="Select all"
      checked={picked === of.length}
      indeterminate={picked > 0 && picked < of.length}
      onChange={(e) => selection.pick(of, e.currentTarget.checked)}
    />
  );
}

/** Selects one row. */
export function SelectOne({ of, label, in: selection }: { of: string; label: string; in: Selection }) {
  return <Checkbox aria-label={label} checked={selection.has(of)} onChange={(e) => selection.pick([of], e.currentTarget.checked)} />;
}
