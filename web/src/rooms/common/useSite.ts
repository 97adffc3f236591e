import { useQuery } from "@tanstack/react-query";
import { useSearchParams } from "react-router";
import { api, keys, unwrap } from "@/shared/client";

const LAST = "moorfog-site";

/** The site a page is about: the address says, else the one that was chosen last on this device, else the first. */
export function useSite() {
  const [params] = useSearchParams();
  const sites = useQuery({ queryKey: keys.sites, queryFn: () => unwrap(api.GET("/api/sites")), staleTime: 60_000 });
  const last = localStorage.getItem(LAST) ?? "";
  const known = sites.data?.some((one) => one.id === last) ? last : (sites.data?.[0]?.id ?? "");
  return { sites, site: params.get("site") || known, remember: (id: string) => localStorage.setItem(LAST, id) };
}
