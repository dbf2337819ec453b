import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { api, unwrap } from "../../api/client";
import { Notice } from "../../ui/Notice";

/** Any generic code, by number as people say it or by words. */
export default function CodesPage() {
  const [sought, setSought] = useState("");
  const q = sought.trim();
  const found = useQuery({
    queryKey: ["codes", q],
    enabled: q.length > 1,
    placeholderData: keepPreviousData,
    queryFn: async () => unwrap(await api.GET("/api/v1/codes", { params: { query: { q } } })),
  });
  const codes = q.length > 1 ? (found.data?.codes ?? []) : [];
  return (
    <main className="mx-auto max-w-4xl px-5 py-5">
      <h1 className="text-3xl">Codes</h1>
      <label className="my-3 block max-w-md text-sm text-soft">
        A number as you say it, or words: 443, P0443-14, purge valve, cam sensor low
        <input
          // biome-ignore lint/a11y/noAutofocus: the one thing one comes here for
          autoFocus
          value={sought}
          maxLength={200}
          onChange={(event) => setSought(event.target.value)}
          className="mt-1 block min-h-11 w-full border border-ink/60 bg-raised px-3 text-base text-ink"
        />
      </label>
      {found.error && <Notice tone="problem">{found.error.message}</Notice>}
      {q.length > 1 && found.data && codes.length === 0 && (
        <p>No generic code fits. A manufacturer's own code stands in the maker's documents.</p>
      )}
      <ul className="border-t border-rule" aria-label="Codes found" aria-busy={found.isFetching}>
        {codes.map((code) => (
          <li key={code.code} className="border-b border-rule">
            <Link
              to={`/codes/${code.code}`}
              className="grid min-h-11 grid-cols-[6rem_1fr] items-baseline gap-x-3 py-2"
            >
              <span className="figure text-lg">
                {code.code}
                {code.failure_type ? `-${code.failure_type}` : ""}
              </span>
              <span>
                {code.meaning || <span className="text-soft">{code.why_not}</span>}
                {code.failure_words && <span className="text-soft">; {code.failure_words}</span>}
                {!code.as_said && <span className="block text-sm text-soft">if you mean {code.code}</span>}
              </span>
            </Link>
          </li>
        ))}
      </ul>
    </main>
  );
}
