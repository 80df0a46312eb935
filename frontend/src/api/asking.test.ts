import { QueryObserver } from "@tanstack/react-query";
import { expect, test } from "vitest";
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
  ["lookAgain", "before", 1],
] as const)("%s while the first answer is under way", async (how, shown, asked) => {
  const { server, ask } = late();
  const client = new Asking({ defaultOptions: { queries: { retry: false } } });
  const seen: (string | undefined)[] = [];
  const stop = new QueryObserver(client, { queryKey: ["plan"], queryFn: ask }).subscribe((r) => seen.push(r.data));
  server.now = "after"; // a change of one's own, while the page is still being asked for
  await client[how]({ queryKey: ["plan"] });
  await new Promise((done) => setTimeout(done, 90));
  expect([seen.at(-1), server.asked]).toEqual([shown, asked]);
  stop();
  client.clear();
});
