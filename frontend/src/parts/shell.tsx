import { type ReactNode, useEffect, useState } from "react";
import { NavLink, useNavigate } from "react-router";
import type { M } from "../api/client";
import { useStatus } from "../api/status";
import { ago, count, share } from "../logic/format";
import { PLACE_WORDS, PLACES } from "../logic/places";
import { ClockMenu } from "./clock";
import { Close, Dialog } from "./dialog";
import { keyName, pageKeys, pressing, typing } from "./keys";
import { useMe } from "./me";
import { useNews } from "./news";
import { Search } from "./search";
import { Table } from "./table";
import { useTimes } from "./times";
import { offerUndo, useUndoOffer } from "./undo-offer";

function Mark() {
  return (
    <svg
      width="18"
      height="18"
      viewBox="0 0 18 18"
      aria-hidden
      fill="none"
      stroke="var(--color-clover)"
      strokeWidth="1.8"
      strokeLinecap="round"
    >
      <path d="M2.5 16 4 6M7 16 6.5 2M11 16 12 4" />
      <path d="M15.5 16 14 8" />
    </svg>
  );
}

export function Shell({ children }: { children: ReactNode }) {
  const { moment } = useTimes();
  const go = useNavigate();
  const me = useMe();
  const foot = useStatus();
  const [finding, setFinding] = useState(false);
  const [listing, setListing] = useState(false);
  const moving = foot.data?.moving ?? null;
  const now = foot.data?.now;

  useNews(foot.data?.stamp, Boolean(foot.data?.sending));

  useEffect(() => {
    const onKey = (e: KeyboardEvent) => {
      if (e.defaultPrevented || typing(e.target) || pressing(e) || e.ctrlKey || e.metaKey || e.altKey) return; // Esc closed a dialog
      if (document.querySelector('[role="dialog"]')) return;
      const place = PLACES[Number(e.key) - 1];
      const own = pageKeys.get().findLast((a) => a.key === e.key);
      if (own) own.act(e);
      else if (place) go(`/${place}`);
      else if (e.key === "f" || e.key === "F") setFinding(true);
      else if (e.key === "?") setListing(true);
      else return;
      e.preventDefault();
    };
    window.addEventListener("keydown", onKey);
    return () => window.removeEventListener("keydown", onKey);
  }, [go]);

  return (
    <div className="grid h-screen grid-cols-[minmax(0,1fr)] grid-rows-[46px_minmax(0,1fr)_28px] print:block print:h-auto max-phone:grid-rows-[auto_minmax(0,1fr)_auto]">
      <header className="flex items-center gap-4 border-b print:hidden border-rule-strong bg-panel px-5 max-phone:flex-wrap max-phone:gap-y-2 max-phone:px-4 max-phone:py-2">
        <NavLink to="/today" className="flex items-center gap-2 font-head text-[16px] font-semibold [font-stretch:87%]">
          <Mark />
          Open Meadow
        </NavLink>
        <nav
          className="flex h-full items-stretch gap-[18px] max-phone:order-last max-phone:h-auto max-phone:w-full max-phone:flex-wrap max-phone:gap-x-4 max-phone:gap-y-1.5"
          aria-label="Sections"
        >
          {PLACES.map((p, i) => (
            <NavLink
              key={p}
              to={`/${p}`}
              className={({ isActive }) =>
                `flex items-center border-b-2 pt-0.5 ${isActive ? "border-cornflower text-ink" : "border-transparent text-ink-2"}`
              }
            >
              {PLACE_WORDS[p]}
              <sup className="ml-1 text-[10px] text-ink-3" aria-hidden>
                {i + 1}
              </sup>
            </NavLink>
          ))}
        </nav>
        <div className="flex-1 max-phone:hidden" />
        <button
          type="button"
          onClick={() => setFinding(true)}
          className="flex w-[190px] items-center justify-between gap-2 rounded border border-rule-strong px-2.5 py-1 text-ink-3 max-[1180px]:w-[110px] max-phone:ml-auto max-phone:w-auto"
        >
          <span className="max-phone:hidden">Search</span>
          <span className="hidden max-phone:inline">Search</span> <kbd className="font-sans text-tiny">F</kbd>
        </button>
        <span className="h-5 border-l border-rule-strong max-phone:hidden" />
        {now ? (
          me.demo ? (
            <ClockMenu now={now} moving={moving} />
          ) : (
            <span className="font-semibold">{moment(now)}</span>
          )
        ) : null}
      </header>
      <div className="min-h-0">{children}</div>
      <StatusLine data={foot.data} list={() => setListing(true)} />
      <Search open={finding} close={() => setFinding(false)} />
      <KeyList open={listing} close={() => setListing(false)} />
    </div>
  );
}

function StatusLine({ data, list }: { data: M["Status"] | undefined; list: () => void }) {
  const { clockTime, moment } = useTimes();
  const me = useMe();
  const [undo, withdraw] = useUndoOffer();
  if (!data) return <footer className="border-t border-rule-strong bg-wash" />;
  const busy = data.sending > 0;
  return (
    <footer className="flex items-center gap-6 overflow-hidden max-phone:overflow-x-auto print:hidden border-t border-rule-strong bg-wash px-5 text-small whitespace-nowrap text-ink-2">
      {undo ? (
        <span role="status" className="text-ink">
          {undo.words}{" "}
          {undo.undo && (
            <button
              type="button"
              className="font-semibold text-cornflower underline"
              onClick={async () => {
                try {
                  await undo.undo?.();
                  withdraw();
                } catch (e) {
                  offerUndo({ words: (e as Error).message, undo: null });
                }
              }}
            >
              Undo
            </button>
          )}
        </span>
      ) : (
        <>
          {data.worker_silent !== null && (
            <b className="text-poppy" role="status">
              {data.worker_silent < 0
                ? "No worker is running: nothing is sent"
                : `The worker has not reported for ${Math.max(1, Math.floor(data.worker_silent / 60))} min: nothing is sent`}
            </b>
          )}
          {data.catching_up && (
            <b className="text-wheat" role="status">
              Reading new events: figures are from before them
            </b>
          )}
          {data.outgoing_paused && (
            <NavLink to="/restored" className="font-semibold text-poppy">
              Restored: all sending is paused
            </NavLink>
          )}
          {data.relay && (
            <NavLink to="/senders/relay" className="font-semibold text-poppy">
              The relay accepts no mail: {count(data.relay.waiting)} queued
            </NavLink>
          )}
          <span className="flex items-center gap-1.5">
            <span aria-hidden className={`size-2 rounded-full ${busy ? "bg-cornflower" : "bg-clover"}`} />
            {busy ? (
              <b className="text-ink">Sending</b>
            ) : (
              <>
                Scores updated <b className="text-ink">{ago(data.scored_at, data.now)}</b>
              </>
            )}
          </span>
          {data.purpose && (
            <span>
              <b className="text-ink">{count(data.permitted)}</b> of {count(data.subscribers)} may be mailed for{" "}
              {data.purpose}
            </span>
          )}
          <span>
            {data.next_at ? (
              <>
                Next send{" "}
                <b className="text-ink">
                  {data.next_at - data.now < 20 * 3600 ? clockTime(data.next_at) : moment(data.next_at)}
                </b>{" "}
                {data.next_name}
              </>
            ) : (
              "Nothing scheduled"
            )}
          </span>
          <span>
            Complaints, 30 days <b className="text-ink">{share(data.complaints, data.sent, 2)}</b> of {count(data.sent)}{" "}
            sent
          </span>
        </>
      )}
      <span className="flex-1" />
      <NavLink to="/settings" className="hover:text-ink">
        Settings
      </NavLink>
      <NavLink to="/account" className="hover:text-ink">
        {me.name}, {me.role}
      </NavLink>
      <button type="button" onClick={list} className="hover:text-ink">
        ? Shortcuts
      </button>
    </footer>
  );
}

function KeyList({ open, close }: { open: boolean; close: () => void }) {
  const rows: [string, string][] = [
    ["1 – 7", "go to a section"],
    ["F", "search"],
    ["Esc", "close what is open"],
    ["?", "show this list"],
    ...pageKeys
      .get()
      .filter((a) => a.words)
      .map((a): [string, string] => [keyName(a.key), a.words]),
  ];
  return (
    <Dialog open={open} change={(o) => !o && close()} title="Keyboard shortcuts">
      <Table label="Keys">
        <tbody>
          {rows.map(([key, words]) => (
            <tr key={key + words}>
              <td className="w-24">
                <kbd className="font-sans font-semibold">{key}</kbd>
              </td>
              <td>{words}</td>
            </tr>
          ))}
        </tbody>
      </Table>
      <p className="mt-3 text-ink-2">Shortcuts are off while you type in a field.</p>
      <div className="mt-4">
        <Close>Close</Close>
      </div>
    </Dialog>
  );
}
