import { useInfiniteQuery } from "@tanstack/react-query";
import { api, unwrap } from "../../api/client";
import { when } from "../../lib/format";
import { Button } from "../../ui/Button";
import { VirtualList } from "../../ui/VirtualList";

/** Sign-ins, accounts, settings, links: by whom and when. Readings and answers carry their author on the job's timeline. */
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
      <h2 className="text-xl">Audit log</h2>
      <div className="text-sm">
        <VirtualList
          items={found.data?.pages.flatMap((page) => page.entries) ?? []}
          keyOf={(entry) => String(entry.id)}
          estimate={32}
          label="Audit log, newest first"
          render={(entry) => (
            <div className="flex gap-3 py-1.5">
              <span className="w-28 shrink-0 text-soft">{when(entry.at)}</span>
              <span>
                {entry.by ?? "nobody"}: {entry.action} {entry.subject}
              </span>
            </div>
          )}
        />
      </div>
      {found.hasNextPage && <Button onClick={() => found.fetchNextPage()}>Earlier</Button>}
    </section>
  );
}
