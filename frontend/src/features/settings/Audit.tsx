import { useInfiniteQuery } from "@tanstack/react-query";
import { api, unwrap } from "../../api/client";
import { when } from "../../lib/format";
import { Button } from "../../ui/Button";

/** Who did what: sign-ins, accounts, settings, links. Readings and answers carry their author on the job's timeline. */
export function Audit() {
  const found = useInfiniteQuery({
    queryKey: ["audit"],
    initialPageParam: undefined as number | undefined,
    queryFn: async ({ pageParam }) =>
      unwrap(await api.GET("/api/v1/audit", { params: { query: { before: pageParam, limit: 20 } } })),
    getNextPageParam: (page) => (page.entries.length === 20 ? page.entries[19]?.id : undefined),
  });
  return (
    <section className="space-y-2">
      <h2 className="text-xl">Who did what</h2>
      <ul className="border-t border-rule text-sm">
        {found.data?.pages
          .flatMap((page) => page.entries)
          .map((entry) => (
            <li key={entry.id} className="flex gap-3 border-b border-rule py-1.5">
              <span className="w-28 shrink-0 text-soft">{when(entry.at)}</span>
              <span>
                {entry.who ?? "nobody"}: {entry.action} {entry.subject}
              </span>
            </li>
          ))}
      </ul>
      {found.hasNextPage && <Button onClick={() => found.fetchNextPage()}>Earlier</Button>}
    </section>
  );
}
