import { useQuery } from "@tanstack/react-query";
import type { JobDetail } from "../../api/client";
import { listsQuery } from "../../api/queries";

/** Titles of the keys that answers are kept by. */
export function useWords(detail: JobDetail): Map<string, string> {
  const { data: lists } = useQuery(listsQuery);
  const known = [...(lists?.conditions ?? []), ...(lists?.environments ?? []), ...detail.symptoms];
  return new Map([
    ...known.map((item): [string, string] => [item.key, item.title]),
    ...detail.parts.map((part): [string, string] => [part.id, part.title]),
  ]);
}
