import { useVirtualizer } from '@tanstack/react-virtual';
import { useEffect, useRef } from 'react';

const AHEAD = 20;

interface Rows {
  count: number;
  height: number;
  overscan: number;
  more: boolean;
  onMore: () => void;
}

/** Draws only the visible rows of a long list, and fetches more before the end is reached. */
export function useRowsInSight<T extends Element>({ count, height, overscan, more, onMore }: Rows) {
  const box = useRef<T>(null);
  const virtual = useVirtualizer({ count, getScrollElement: () => box.current, estimateSize: () => height, overscan });
  const shown = virtual.getVirtualItems();
  const last = shown.at(-1)?.index ?? 0;
  useEffect(() => {
    if (more && last >= count - AHEAD) onMore();
  }, [more, last, count, onMore]);
  return { box, shown, height: virtual.getTotalSize() };
}
