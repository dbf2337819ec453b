import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link, Outlet } from "react-router";
import { api, unwrap } from "../api/client";
import { useWorking } from "../api/patience";
import { useUnreachable } from "../api/reach";
import { forgetSeen } from "../api/seen";
import { accept, meQuery, useMe } from "../api/session";
import { clock } from "../lib/format";
import { applyTheme, storedTheme, type Theme } from "../lib/theme";

/** The frame of every screen: name, way back to the jobs, who is signed in, theme. Screens put their own line into `#headline`. */
export function Shell() {
  const [theme, setTheme] = useState<Theme>(storedTheme());
  const me = useMe().data;
  const client = useQueryClient();
  const working = useWorking();
  const away = useUnreachable();
  const other: Theme = theme === "light" ? "dark" : "light";
  const signOut = useMutation({
    mutationFn: async () => unwrap(await api.DELETE("/api/v1/session")),
    onSuccess: (answer) => {
      // What another person may not see must not stay in memory. Entries not yet sent stay in this browser.
      client.setQueryData(meQuery.queryKey, accept(answer));
      void forgetSeen();
      client.removeQueries({ predicate: (query) => query.queryKey[0] !== meQuery.queryKey[0] });
    },
  });
  const quiet = "min-h-11 px-2 text-sm text-soft underline-offset-4 hover:underline";
  return (
    <div className="flex h-full flex-col">
      <header className="flex min-h-12 items-center gap-x-4 border-b border-rule px-4 max-sm:flex-wrap max-sm:px-3">
        <Link
          to="/"
          className="flex min-h-11 items-center gap-2 text-lg font-[700]"
          aria-label="Sondar, all jobs"
        >
          <svg viewBox="0 0 24 24" className="h-6 w-6" aria-hidden="true">
            <path d="M12 1v14" stroke="currentColor" strokeWidth="2" />
            <path d="M8 15h8l-1.6 8h-4.8z" fill="currentColor" />
            <path d="M8 5h8M8.8 9h6.4" stroke="var(--depth-4)" strokeWidth="1.6" />
          </svg>
          <span className="max-sm:sr-only">Sondar</span>
        </Link>
        <div id="headline" className="min-w-0 flex-1 max-sm:order-last max-sm:basis-full max-sm:pb-1" />
        <div className="flex shrink-0 items-center max-sm:ml-auto">
          <Link to="/circuits" className={`flex items-center ${quiet}`}>
            Circuits
          </Link>
          <Link to="/codes" className={`flex items-center ${quiet}`}>
            Codes
          </Link>
          <Link to="/parts" className={`flex items-center ${quiet}`}>
            Parts
          </Link>
          <button
            type="button"
            className={quiet}
            onClick={() => {
              applyTheme(other);
              setTheme(other);
              void api.PUT("/api/v1/me/theme", { body: { theme: other } });
            }}
          >
            {other === "dark" ? "Dark" : "Light"}
          </button>
          <Link to="/settings" className={`flex items-center ${quiet}`} title={me?.name}>
            {me?.name.split(",")[0] ?? ""} <span className="sr-only">, settings</span>
          </Link>
          <button type="button" className={quiet} onClick={() => signOut.mutate()}>
            Sign out
          </button>
        </div>
      </header>
      {away !== null && (
        <p
          role="status"
          data-testid="unreachable"
          className="border-b-2 border-ink bg-raised px-4 py-1.5 text-sm"
        >
          <strong className="font-[650]">No connection to Sondar since {clock(away)}.</strong> You see what
          was last seen here. Readings you enter are kept in this browser and sent in order when it is back.
        </p>
      )}
      {working !== null && away === null && (
        <p role="status" data-testid="working" className="border-b border-rule bg-raised px-4 py-1.5 text-sm">
          Working out what this circuit predicts{working ? `: ${working}` : ""}. You may leave this page; it
          goes on, and what you entered is stored.
        </p>
      )}
      <div className="min-h-0 flex-1 overflow-auto">
        <Outlet />
      </div>
    </div>
  );
}
