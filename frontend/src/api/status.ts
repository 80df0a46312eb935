import { useQuery } from "@tanstack/react-query";
import { get } from "./client";
import { keys } from "./keys";

/** What every page shows at its foot: the clock, what is due, what is wrong. Asked for again while it is looked at. */
export function useStatus() {
  return useQuery({
    queryKey: keys.status(),
    queryFn: () => get("/status"),
    refetchInterval: (q) => (q.state.data?.moving || q.state.data?.sending ? 1000 : 5000),
  });
}
