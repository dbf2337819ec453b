import { useState } from "react";
import { Link, Outlet } from "react-router";
import { applyTheme, storedTheme, type Theme } from "../lib/theme";

/** The frame of every screen: name, way back to the jobs, theme. Screens put their own line into `#headline`. */
export function Shell() {
  const [theme, setTheme] = useState<Theme>(storedTheme());
  const other: Theme = theme === "light" ? "dark" : "light";
  return (
    <div className="flex h-full flex-col">
      <header className="flex min-h-12 items-center gap-4 border-b border-rule px-4">
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
          Sondar
        </Link>
        <div id="headline" className="min-w-0 flex-1" />
        <button
          type="button"
          className="min-h-11 px-2 text-sm text-soft underline-offset-4 hover:underline"
          onClick={() => {
            applyTheme(other);
            setTheme(other);
          }}
        >
          {other === "dark" ? "Night" : "Day"}
        </button>
      </header>
      <div className="min-h-0 flex-1 overflow-auto">
        <Outlet />
      </div>
    </div>
  );
}
