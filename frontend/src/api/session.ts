import { queryOptions, useQuery } from "@tanstack/react-query";
import { applyTheme, systemTheme } from "../lib/theme";
import { api, type Me, setCsrf, unwrap } from "./client";

/** Take over who is signed in: their token for writing, and their theme. */
export function accept(me: Me): Me {
  setCsrf(me.csrf);
  if (me.signed_in && me.theme !== "system") applyTheme(me.theme);
  if (me.signed_in && me.theme === "system" && !localStorage.getItem("sondar-theme"))
    applyTheme(systemTheme());
  return me;
}

export const meQuery = queryOptions({
  queryKey: ["me"],
  staleTime: 60_000,
  queryFn: async () => accept(unwrap(await api.GET("/api/v1/session"))),
});

/** The signed-in person and their workshop. */
export function useMe() {
  return useQuery(meQuery);
}
