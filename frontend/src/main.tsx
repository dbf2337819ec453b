import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { StrictMode } from "react";
import { createRoot } from "react-dom/client";
import { BrowserRouter } from "react-router";
import { ApiError } from "./api/client";
import { onReturn } from "./api/reach";
import { keepWhatIsSeen, seenWhereUnreachable } from "./api/seen";
import { App } from "./app/App";
import { applyTheme, storedTheme } from "./lib/theme";
import "./styles.css";

applyTheme(storedTheme());

/** What the server has refused it refuses again; only a server that does not answer is asked once more. */
const again = (failures: number, error: Error) =>
  failures < 2 && !(error instanceof ApiError && error.problem.status < 500);

// Whether there is a connection is found out by trying: a browser that says "online" means any network, not this server.
const client = new QueryClient({
  defaultOptions: {
    queries: { retry: again, staleTime: 5_000, networkMode: "always", persister: seenWhereUnreachable },
    mutations: { networkMode: "always" },
  },
});
keepWhatIsSeen(client);
onReturn(() => void client.invalidateQueries());

// Over plain HTTP from another machine a browser allows no service worker; settings say so.
if (import.meta.env.PROD) void navigator.serviceWorker?.register("/sw.js").catch(() => undefined);

createRoot(document.getElementById("root") as HTMLElement).render(
  <StrictMode>
    <QueryClientProvider client={client}>
      <BrowserRouter>
        <App />
      </BrowserRouter>
    </QueryClientProvider>
  </StrictMode>,
);
