import { useVirtualizer } from "@tanstack/react-virtual";
import { type ReactNode, useLayoutEffect, useRef, useState } from "react";

/** The element that scrolls an element. */
function scrollerOf(element: HTMLElement | null): HTMLElement | null {
  for (let up = element?.parentElement ?? null; up; up = up.parentElement)
    if (/auto|scroll/.test(getComputedStyle(up).overflowY)) return up;
  return document.scrollingElement as HTMLElement | null;
}

/** A long list of which only the lines in sight, and some around them, are drawn. It scrolls with the page it stands on. */
export function VirtualList<T>(props: {
  items: T[];
  keyOf: (item: T) => string;
  /** Usual height of a line in pixels. */
  estimate: number;
  label: string;
  render: (item: T) => ReactNode;
}) {
  const { items, keyOf, estimate, label, render } = props;
  const list = useRef<HTMLUListElement>(null);
  const [scroller, setScroller] = useState<HTMLElement | null>(null);
  const [margin, setMargin] = useState(0);
  useLayoutEffect(() => {
    const found = scrollerOf(list.current);
    setScroller(found);
    const top = list.current?.getBoundingClientRect().top ?? 0;
    if (found) setMargin(top - found.getBoundingClientRect().top + found.scrollTop);
  }, []);
  const lines = useVirtualizer({
    count: items.length,
    getScrollElement: () => scroller,
    estimateSize: () => estimate,
    overscan: 15,
    scrollMargin: margin,
    getItemKey: (index) => {
      const item = items[index];
      return item === undefined ? index : keyOf(item);
    },
  });
  return (
    <ul
      ref={list}
      aria-label={label}
      className="relative border-t border-rule"
      style={{ height: lines.getTotalSize() }}
    >
      {lines.getVirtualItems().map((line) => {
        const item = items[line.index];
        if (item === undefined) return null;
        return (
          <li
            key={line.key}
            ref={lines.measureElement}
            data-index={line.index}
            aria-setsize={items.length}
            aria-posinset={line.index + 1}
            className="absolute top-0 left-0 w-full border-b border-rule"
            style={{ transform: `translateY(${line.start - margin}px)` }}
          >
            {render(item)}
          </li>
        );
      })}
    </ul>
  );
}
