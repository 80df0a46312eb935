// @vitest-environment jsdom
import { QueryClientProvider } from "@tanstack/react-query";
import { renderHook } from "@testing-library/react";
import type { ReactNode } from "react";
import { afterEach, beforeEach, expect, test, vi } from "vitest";
import { Asking } from "../../frontend/src/api/asking";
import { useNews } from "../../frontend/src/parts/news";

beforeEach(() => void vi.useFakeTimers());
afterEach(() => void vi.useRealTimers());

/** How often the screen is looked at again while ten heartbeats, a second apart, bring a new stamp or the same. */
function looks(sending: boolean, stampOf: (second: number) => string | undefined): number {
  const client = new Asking();
  const look = vi.spyOn(client, "lookAgain").mockResolvedValue();
  const wrapper = ({ children }: { children: ReactNode }) => (
    <QueryClientProvider client={client}>{children}</QueryClientProvider>
  );
  const { rerender, unmount } = renderHook(({ stamp }) => useNews(stamp, sending), {
    wrapper,
    initialProps: { stamp: stampOf(0) },
  });
  for (let second = 1; second <= 10; second++) {
    vi.advanceTimersByTime(1_000);
    rerender({ stamp: stampOf(second) });
  }
  vi.advanceTimersByTime(5_000);
  unmount();
  return look.mock.calls.length;
}

test.each([
  ["nothing new: never", false, () => "1", 0],
  ["the first word of it, come late: never", false, (s: number) => (s < 3 ? undefined : "1"), 0],
  ["something new once: once", false, (s: number) => (s < 5 ? "1" : "2"), 1],
  ["news every second: at each", false, String, 10],
  ["news every second while mail goes out: every three seconds and at the end", true, String, 5],
])("%s", (_, sending, stampOf, most) => {
  expect(looks(sending, stampOf)).toBe(most);
});
