import { keepPreviousData, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { get, type M, post } from "../../api/client";
import { changedIn, keys } from "../../api/keys";
import { useAction } from "../../parts/action";
import { Ask } from "../../parts/ask";
import { May } from "../../parts/may";
import { useMe } from "../../parts/me";
import { Page } from "../../parts/page";
import { Table } from "../../parts/table";
import { Sentence } from "../../parts/waiting";
import { Approval } from "./approval";
import type { CampaignProps } from "./campaign";

const COLOUR = { blocker: "text-poppy", warning: "text-wheat", note: "text-ink-2" };
const WHERE: Record<string, [words: string, to: string]> = {
  message: ["Message", "message"],
  recipients: ["Recipients", "recipients"],
  schedule: ["Schedule", "schedule"],
  senders: ["Senders", "/senders"],
  addresses: ["Address checks", "/subscribers/address-checks"],
  consent: ["Consent", "/subscribers/consent"],
  settings: ["Layout and address", "/campaigns/layout"],
};

export const useChecks = (id: number, on: boolean) =>
  useQuery({
    queryKey: keys.checks(id),
    queryFn: () => get(`/campaigns/${id}/checks`),
    enabled: on,
    placeholderData: keepPreviousData,
  });

/** Finding before it goes out, stops first, each with the way to where it is mended. */
export function ChecksPage({ c, head }: CampaignProps) {
  const me = useMe();
  const client = useQueryClient();
  const { run, error } = useAction();
  const [busy, setBusy] = useState("");
  const q = useChecks(c.id, true);
  const known = q.data?.checks ?? c.checks;
  const act = async (path: string) => {
    setBusy(path);
    await run(async () => {
      await post(`/campaigns/${c.id}/${path}`);
      await changedIn(client, "campaigns");
    });
    setBusy("");
  };
  return (
    <Page
      {...head}
      acts={
        <>
          <Approval c={c} />
          <May to="write">
            {/* not before the first look has come: what it had not seen would be taken for the news */}
            <button type="button" className="btn" disabled={!!busy || !q.data} onClick={() => act("links")}>
              {busy === "links" ? "Checking links…" : "Check links"}
            </button>
            <button type="button" className="btn" disabled={!!busy || !q.data} onClick={() => act("placement")}>
              {busy === "placement" ? "Sending copies…" : "Run placement test"}
            </button>
          </May>
        </>
      }
      lead="Fix blockers before you start. Warnings and notes are optional. Each row links to where you can fix it."
    >
      <Sentence error={error ?? q.error} />
      <May to="write">
        {!known.length ? (
          <p className="py-4 text-clover">All checks passed.</p>
        ) : (
          <Table label="Findings">
            <thead>
              <tr>
                <th scope="col" className="w-[80px]">
                  Level
                </th>
                <th scope="col" className="w-[150px]">
                  Check
                </th>
                <th scope="col">Finding</th>
                <th scope="col" className="w-[170px]">
                  Fix in
                </th>
              </tr>
            </thead>
            <tbody>
              {known.map((x) => {
                const [words, to] = WHERE[x.fix] ?? ["", ""];
                return (
                  <tr key={x.check + x.finding}>
                    <td className={`font-semibold ${x.overridden ? "text-ink-3 line-through" : COLOUR[x.level]}`}>
                      {x.level}
                    </td>
                    <td>{x.check}</td>
                    <td>
                      {x.finding}
                      {x.overridden && (
                        <span className="block text-small text-ink-2">
                          Overridden by {x.overridden}{" "}
                          {me.role === "analyst" && (
                            <button
                              type="button"
                              className="btn btn-bare py-0"
                              onClick={async () => {
                                await post(`/campaigns/${c.id}/override`, { check: x.check, finding: x.finding });
                                await changedIn(client, "campaigns");
                              }}
                            >
                              Undo
                            </button>
                          )}
                        </span>
                      )}
                    </td>
                    <td className="whitespace-nowrap">
                      {x.fix === "links" || x.fix === "placement" ? (
                        <button
                          type="button"
                          className="btn btn-bare -ml-2 py-0"
                          disabled={!!busy}
                          onClick={() => act(x.fix)}
                          aria-label={x.fix === "links" ? "Check links now" : "Run placement test now"}
                        >
                          {x.fix === "links" ? "Check" : "Run"}
                        </button>
                      ) : (
                        words && (
                          <Link
                            className="text-cornflower underline"
                            to={to.startsWith("/") ? to : `/campaigns/${c.id}/${to}`}
                          >
                            {words}
                          </Link>
                        )
                      )}
                      {x.may_override && !x.overridden && me.role === "analyst" && <Override id={c.id} x={x} />}
                    </td>
                  </tr>
                );
              })}
            </tbody>
          </Table>
        )}
      </May>
      {!!q.data?.passed.length && (
        <>
          <h2 className="mt-7 mb-1">
            Passed <span className="font-normal text-ink-2">{q.data.passed.length}</span>
          </h2>
          <ul className="grid grid-cols-2 gap-x-8 border-t border-rule max-tablet:grid-cols-1">
            {q.data.passed.map((x) => (
              <li key={x.check} className="flex gap-3 border-b border-rule py-1.5">
                <span className="w-[128px] shrink-0 text-clover">{x.check}</span>
                <span className="text-ink-2">{x.words}</span>
              </li>
            ))}
          </ul>
        </>
      )}
    </Page>
  );
}

function Override({ id, x }: { id: number; x: M["Check"] }) {
  const client = useQueryClient();
  const [reason, setReason] = useState("");
  return (
    <Ask
      trigger={
        <button type="button" className="btn btn-bare ml-2 py-0">
          Override…
        </button>
      }
      title={`Override “${x.check}”?`}
      words="Override blocker"
      disabled={reason.trim().length < 5}
      act={async () => {
        await post(`/campaigns/${id}/override`, { check: x.check, finding: x.finding, reason });
        await changedIn(client, "campaigns");
      }}
    >
      {x.finding}
      <label className="mt-3 block text-ink">
        <span className="label">Reason (logged)</span>
        <textarea className="field" rows={3} value={reason} onChange={(e) => setReason(e.target.value)} />
      </label>
    </Ask>
  );
}
