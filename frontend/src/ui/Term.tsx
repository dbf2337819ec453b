import { useQuery } from "@tanstack/react-query";
import { Popover } from "radix-ui";
import type { ReactNode } from "react";
import { listsQuery } from "../api/queries";

/** A term of the trade: a tap says what it means and why it matters. */
export function Term({ name, children }: { name: string; children: ReactNode }) {
  const { data } = useQuery(listsQuery);
  const found = data?.glossary.find((item) => item.term === name || item.synonyms.includes(name));
  if (!found) return <>{children}</>;
  return (
    <Popover.Root>
      <Popover.Trigger
        className="min-h-6 cursor-help underline decoration-dotted underline-offset-4"
        aria-label={`${name}: what it means`}
      >
        {children}
      </Popover.Trigger>
      <Popover.Portal>
        <Popover.Content
          sideOffset={4}
          collisionPadding={8}
          className="z-20 max-w-xs rounded-sm border border-ink/60 bg-raised p-3 text-sm text-ink shadow-xl"
        >
          <p className="font-[650]">{found.term}</p>
          <p>{found.meaning}</p>
          <p className="mt-1 text-soft">{found.matters}</p>
        </Popover.Content>
      </Popover.Portal>
    </Popover.Root>
  );
}
