import { useQuery } from "@tanstack/react-query";
import { api, keys, unwrap } from "@/shared/client";

/** The administrator's employers, to choose one from. */
export function useEmployers() {
  return useQuery({
    queryKey: keys.places(1),
    queryFn: () => unwrap(api.GET("/api/places", { params: { query: { page: 1 } } })),
  }).data;
}
