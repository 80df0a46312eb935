import { useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { type M, post, put } from "../../api/client";
import { peopleChanged } from "../../api/keys";
import { count } from "../../logic/format";
import { Ask } from "../../parts/ask";
import { May } from "../../parts/may";
import { Page } from "../../parts/page";
import { ProviderName, useProviders } from "../../parts/provider";
import { Table } from "../../parts/table";
import { Waiting } from "../../parts/waiting";

type Provider = M["MailboxProvider"];

/** A share as somebody types it: per cent, empty for the workspace's own limit. */
const percent = (share: number | undefined) => (share === undefined ? "" : String(Number((100 * share).toFixed(3))));

function Change({ p, guardrails }: { p: Provider; guardrails: Record<string, number> }) {
  const client = useQueryClient();
  const [name, setName] = useState(p.name);
  const [colour, setColour] = useState(p.colour);
  const [cap, setCap] = useState(p.daily_cap === null ? "" : String(p.daily_cap));
  const [limits, setLimits] = useState<Record<string, string>>(() =>
    Object.fromEntries(Object.keys(guardrails).map((g) => [g, percent(p.limits[g])])),
  );
  return (
    <Ask
      trigger={
        <button type="button" className="btn btn-bare py-0">
          change…
        </button>
      }
      title={p.name}
      words="Save provider"
      disabled={!name.trim()}
      act={async () => {
        const own = Object.entries(limits).filter(([, v]) => v.trim() !== "");
        await put(`/providers/${p.id}`, {
          name,
          colour,
          daily_cap: cap.trim() ? Number(cap) : null,
          limits: Object.fromEntries(own.map(([k, v]) => [k, Number(v) / 100])),
        });
        await peopleChanged(client);
      }}
    >
      <span className="grid grid-cols-2 gap-3 text-ink">
        <label>
          <span className="label">Name</span>
          <input className="field" value={name} disabled={p.id === 0} onChange={(e) => setName(e.target.value)} />
        </label>
        <label>
          <span className="label">Daily limit, over all campaigns</span>
          <input
            className="field"
            type="number"
            min={1}
            value={cap}
            placeholder="no limit"
            onChange={(e) => setCap(e.target.value)}
          />
        </label>
        <label className="col-span-2 flex items-center gap-3">
          <span>Colour beside its name</span>
          <input type="color" value={colour || "#737E85"} onChange={(e) => setColour(e.target.value)} />
          {colour && (
            <button type="button" className="btn btn-bare py-0" onClick={() => setColour("")}>
              no colour
            </button>
          )}
        </label>
      </span>
      <p className="mt-4 mb-1 font-semibold text-ink">Guardrails here, in per cent</p>
      <span className="grid grid-cols-3 gap-x-3 gap-y-2 text-ink">
        {Object.entries(guardrails).map(([g, usual]) => (
          <label key={g}>
            <span className="label">{g}</span>
            <input
              className="field"
              type="number"
              min={0.01}
              max={100}
              step={0.01}
              value={limits[g] ?? ""}
              placeholder={percent(usual)}
              onChange={(e) => setLimits({ ...limits, [g]: e.target.value })}
            />
          </label>
        ))}
      </span>
      <p className="mt-2 text-small">Empty: the workspace's limit applies.</p>
    </Ask>
  );
}

function Merge({ p, all }: { p: Provider; all: Provider[] }) {
  const client = useQueryClient();
  const others = all.filter((o) => o.id !== p.id);
  const [into, setInto] = useState(others[0]?.id ?? 0);
  const to = all.find((o) => o.id === into);
  return (
    <Ask
      trigger={
        <button type="button" className="btn btn-bare py-0">
          merge…
        </button>
      }
      title={`Merge ${p.name} into another?`}
      words={`Merge into ${to?.name ?? "it"}`}
      grave
      act={async () => {
        await post(`/providers/${p.id}/merge`, { into });
        await peopleChanged(client);
      }}
    >
      {count(p.people)} subscribers and its mail servers move to the other one. Rules and limits that name {p.name} are
      updated.
      <label className="mt-3 block text-ink">
        <span className="label">Merge into</span>
        <select className="field" value={into} onChange={(e) => setInto(Number(e.target.value))}>
          {others.map((o) => (
            <option key={o.id} value={o.id}>
              {o.name}
            </option>
          ))}
        </select>
      </label>
    </Ask>
  );
}

function Split({ p }: { p: Provider }) {
  const client = useQueryClient();
  const [domain, setDomain] = useState(p.domains[0]?.domain ?? "");
  const [name, setName] = useState("");
  return (
    <Ask
      trigger={
        <button type="button" className="btn btn-bare py-0">
          move a domain…
        </button>
      }
      title={`Move a domain from ${p.name}`}
      words="Move domain"
      disabled={!domain.trim() || !name.trim()}
      act={async () => {
        await post("/providers/split", { domain, name });
        await peopleChanged(client);
      }}
    >
      Its subscribers move to the provider you name, whatever its MX records say. A new name creates a new provider.
      <span className="mt-3 grid grid-cols-2 gap-3 text-ink">
        <label>
          <span className="label">Domain</span>
          <input
            className="field"
            value={domain}
            list={`domains-of-${p.id}`}
            onChange={(e) => setDomain(e.target.value)}
          />
          <datalist id={`domains-of-${p.id}`}>
            {p.domains.map((d) => (
              <option key={d.domain} value={d.domain} />
            ))}
          </datalist>
        </label>
        <label>
          <span className="label">Provider</span>
          <input className="field" value={name} onChange={(e) => setName(e.target.value)} />
        </label>
      </span>
    </Ask>
  );
}

/** Who takes our people's mail, found by MX: named, coloured, merged, split, with caps and limits of their own. */
export function ProvidersPage() {
  const q = useProviders();
  if (!q.data)
    return (
      <Page title="Mailbox providers">
        <Waiting error={q.error} what="the providers" />
      </Page>
    );
  const { providers: all, guardrails, asked, to_ask } = q.data;
  return (
    <Page
      title="Mailbox providers"
      lead={`Found by the MX records of ${count(asked)} ${asked === 1 ? "domain" : "domains"}${to_ask ? `; ${count(to_ask)} still to look up, a few every half minute` : ""}.`}
      acts={
        <Link className="btn" to="/health">
          Back to Health
        </Link>
      }
      side={
        <>
          <h2 className="mb-1">What this means</h2>
          <p className="text-ink-2">
            A domain's MX records show which servers receive its mail. A provider whose servers receive for 100 of your
            subscribers, or for 0.5% of them, is listed here under its server name until you rename it. The rest is
            “Other domains”.
          </p>
          <p className="mt-2 text-ink-2">
            Daily limits, guardrails, Health, Results and the rule <span className="font-mono">provider is "…"</span>{" "}
            use this list. A limit in a campaign's schedule overrides the one here.
          </p>
        </>
      }
    >
      <Table label="Providers">
        <thead>
          <tr>
            <th scope="col">Provider</th>
            <th scope="col" className="n">
              People
            </th>
            <th scope="col">Largest domains and servers</th>
            <th scope="col" className="n">
              Daily limit
            </th>
            <th scope="col" />
          </tr>
        </thead>
        <tbody>
          {all.map((p) => (
            <tr key={p.id}>
              <td className="font-semibold">
                <ProviderName name={p.name} />
                {Object.keys(p.limits).length > 0 && (
                  <span className="block text-small font-normal text-ink-2">
                    own limits:{" "}
                    {Object.entries(p.limits)
                      .map(([g, s]) => `${g} ${percent(s)}%`)
                      .join(", ")}
                  </span>
                )}
              </td>
              <td className="n">{count(p.people)}</td>
              <td className="text-small text-ink-2">
                {p.domains
                  .slice(0, 4)
                  .map((d) => `${d.domain} ${count(d.people)}`)
                  .join(", ") || "no one"}
                {p.domains.length > 4 ? " and more" : ""}
                {p.hosts.length > 0 && (
                  <span className="block" title={p.hosts.join(", ")}>
                    servers under {p.hosts.slice(0, 3).join(", ")}
                    {p.hosts.length > 3 ? ` and ${count(p.hosts.length - 3)} more` : ""}
                  </span>
                )}
              </td>
              <td className="n">{p.daily_cap === null ? "–" : count(p.daily_cap)}</td>
              <td className="n whitespace-nowrap">
                <May to="decide">
                  <Change key={JSON.stringify(p)} p={p} guardrails={guardrails} />
                  {p.id !== 0 && all.length > 1 && <Merge p={p} all={all} />}
                  {p.domains.length > 0 && <Split p={p} />}
                </May>
              </td>
            </tr>
          ))}
        </tbody>
      </Table>
    </Page>
  );
}
