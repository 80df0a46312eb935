import { QueryObserver } from "@tanstack/react-query";
import { expect, test, vi } from "vitest";
import { Asking } from "./asking";

/** A server that answers late, with what held when it was asked. */
function late() {
  const server = { now: "before", asked: 0 };
  const ask = async () => {
    server.asked += 1;
    const told = server.now;
    await new Promise((done) => setTimeout(done, 30));
    return told;
  };
  return { server, ask };
}

test.each([
  ["invalidateQueries", "after", 2],
  ["lookAgain", "after", 2],
] as const)("%s while the first answer is under way", async (how, shown, asked) => {
  const { server, ask } = late();
  const client = new Asking({ defaultOptions: { queries: { retry: false } } });
  client.mount();
  const seen: (string | undefined)[] = [];
  const stop = new QueryObserver(client, { queryKey: ["plan"], queryFn: ask }).subscribe((r) => seen.push(r.data));
  server.now = "after"; // a change of one's own, while the page is still being asked for
  await client[how]({ queryKey: ["plan"] });
  await new Promise((done) => setTimeout(done, 120));
  expect([seen.at(-1), server.asked]).toEqual([shown, asked]);
  stop();
  client.unmount();
  client.clear();
});

test("news that come while an answer is under way cost one more question, however many", async () => {
  vi.useFakeTimers(); // the answer takes 30 ms, whatever the machine does meanwhile
  const { server, ask } = late();
  const client = new Asking({ defaultOptions: { queries: { retry: false } } });
  client.mount();
  const stop = new QueryObserver(client, { queryKey: ["map"], queryFn: ask }).subscribe(() => {});
  for (let i = 0; i < 20; i++) {
    client.lookAgain({ queryKey: ["map"] });
    await vi.advanceTimersByTimeAsync(1);
  }
  await vi.advanceTimersByTimeAsync(150);
  expect(server.asked).toBeLessThanOrEqual(3);
  stop();
  client.unmount();
  client.clear();
  vi.useRealTimers();
});
