import { useQueryClient } from "@tanstack/react-query";
import { DropdownMenu } from "radix-ui";
import { useState } from "react";
import { type M, post } from "../api/client";
import { keys } from "../api/keys";
import { useMe } from "./me";
import { useTimes } from "./times";

/** The demo clock stands until it is moved; everything due on the way happens. */
export function ClockMenu({ now, moving }: { now: number; moving: M["Moving"] | null }) {
  const { moment } = useTimes();
  const client = useQueryClient();
  const me = useMe();
  const [error, setError] = useState("");
  const move = async (by: number | null) => {
    setError("");
    try {
      await post("/clock", { by });
    } catch (e) {
      setError((e as Error).message);
    }
    client.invalidateQueries({ queryKey: keys.status() });
  };
  if (moving)
    return (
      <span role="status" className="whitespace-nowrap">
        <b>{moment(now)}</b>{" "}
        <span className="text-cornflower">· moving{moving.target ? ` to ${moment(moving.target)}` : ""}</span>
      </span>
    );
  return (
    <DropdownMenu.Root>
      <DropdownMenu.Trigger className="whitespace-nowrap" aria-label={`Demo clock, ${moment(now)}. Move forward`}>
        <b>{moment(now)}</b> <span className="text-ink-2">· demo clock ▾</span>
      </DropdownMenu.Trigger>
      <DropdownMenu.Portal>
        <DropdownMenu.Content
          align="end"
          sideOffset={8}
          className="z-50 w-[270px] rounded border border-rule-strong bg-panel py-1 shadow-lg"
        >
          <p className="px-4 py-2 text-small text-ink-2">
            The demo clock is paused. Move it forward to run everything that is due: batches, opens, bounces.
          </p>
          {(
            [
              [null, "To the next event"],
              [3600, "An hour"],
              [86400, "A day"],
              [3 * 86400, "Three days"],
              [7 * 86400, "A week"],
            ] as const
          ).map(([by, words]) => (
            <DropdownMenu.Item
              key={words}
              disabled={me.role !== "analyst"}
              onSelect={() => move(by)}
              className="flex cursor-pointer justify-between px-4 py-1.5 outline-none data-[highlighted]:bg-cornflower-pale"
            >
              {words}
              {by && <span className="text-ink-3">{moment(now + by)}</span>}
            </DropdownMenu.Item>
          ))}
          <DropdownMenu.Item
            asChild
            className="mt-1 block border-t border-rule px-4 py-2 outline-none data-[highlighted]:bg-cornflower-pale"
          >
            <a href={me.world_url} target="_blank" rel="noreferrer">
              Open the demo mailboxes ↗
            </a>
          </DropdownMenu.Item>
          {error && <p className="px-4 py-1 text-poppy">{error}</p>}
        </DropdownMenu.Content>
      </DropdownMenu.Portal>
    </DropdownMenu.Root>
  );
}
