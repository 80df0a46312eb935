import { useQueryClient } from "@tanstack/react-query";
import { useEffect, useRef } from "react";
import type { Asking } from "../api/asking";

const WHILE_SENDING = 3_000; // milliseconds between two looks while mail goes out, each of which brings news

/** When something changed, what is on the screen is looked at again; that time passes is no reason. While mail goes out
 * there is news all the time: it is looked at every few seconds, and no sooner than the answers of the last look came. */
export function useNews(stamp: string | undefined, sending: boolean) {
  const client = useQueryClient() as Asking;
  const looked = useRef({ at: 0, stamp });
  useEffect(() => {
    if (stamp === looked.current.stamp) return;
    if (looked.current.stamp === undefined) {
      looked.current.stamp = stamp; // the first one is no news: what is on the screen was asked for with it
      return;
    }
    const wait = sending ? Math.max(0, looked.current.at + WHILE_SENDING - Date.now()) : 0;
    const timer = window.setTimeout(() => {
      looked.current = { at: Date.now(), stamp };
      client.lookAgain({ predicate: (q) => q.queryKey[0] !== "status" && q.queryKey[0] !== "me" });
    }, wait);
    return () => clearTimeout(timer);
  }, [stamp, sending, client]);
}
