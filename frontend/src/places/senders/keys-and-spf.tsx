import { useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { type M, post } from "../../api/client";
import { keys } from "../../api/keys";
import { Ask } from "../../parts/ask";
import { useMe } from "../../parts/me";
import { useTimes } from "../../parts/times";

/** The key in use, the next one that waits to be proved, the old one kept for a week; and a new one. */
export function Keys({ d }: { d: M["Domain"] }) {
  const { day } = useTimes();
  const client = useQueryClient();
  const me = useMe();
  const [kind, setKind] = useState("rsa");
  return (
    <p className="mt-2 text-ink-2">
      {d.selector ? (
        <>
          Signs with selector <span className="font-mono text-small">{d.selector}</span>
          {d.keys.map((k) => (
            <span key={k.selector}>
              ; <span className="font-mono text-small">{k.selector}</span>{" "}
              {k.state === "next"
                ? "is waiting to be published"
                : `is retired, valid until ${day(k.made_at + 7 * 86400)}`}
            </span>
          ))}
          .{" "}
        </>
      ) : (
        "No key yet. "
      )}
      {me.role === "analyst" && (
        <Ask
          trigger={
            <button type="button" className="btn btn-bare py-0">
              Rotate key…
            </button>
          }
          title={`Create the next DKIM key for ${d.name}?`}
          words="Create key"
          act={async () => {
            await post(`/senders/${d.id}/key?kind=${kind}`);
            await client.invalidateQueries({ queryKey: keys.senders() });
          }}
        >
          {d.selector
            ? "Mail is still signed with the current key. Publish the new record. Once it is found, the new key is used and the old one stays valid for a week."
            : "It is used right away. Publish its record before you send."}
          <label className="mt-3 block text-ink">
            <span className="label">Kind</span>
            <select className="field w-[220px]!" value={kind} onChange={(e) => setKind(e.target.value)}>
              <option value="rsa">RSA 2048 (most compatible)</option>
              <option value="ed25519">Ed25519 (shorter, newer)</option>
            </select>
          </label>
        </Ask>
      )}
    </p>
  );
}

interface Cost {
  term: string;
  domain: string;
  lookups: number;
  below: Cost[];
}

/** The SPF lookups one by one, with the running count, as mail from elsewhere would cause them. */
export function LookUps({ d }: { d: M["Domain"] }) {
  const spf = d.spf as { result?: string; lookups?: number; most?: number; advice?: string; costs?: Cost[] };
  const rows: { cost: Cost; depth: number; running: number }[] = [];
  let running = 0;
  const walk = (list: Cost[], depth: number) => {
    for (const cost of list) {
      running += 1;
      rows.push({ cost, depth, running });
      walk(cost.below, depth + 1);
    }
  };
  walk(spf.costs ?? [], 0);
  if (!spf.result) return null;
  return (
    <>
      <h2 className="mt-6 mb-1">SPF lookups</h2>
      <p className="text-small text-ink-2">
        Your relay: {spf.result} after {spf.lookups} of 10. Other senders: {spf.most} of 10. {spf.advice}
      </p>
      {rows.length > 0 && (
        <ol className="mt-1 border-t border-rule">
          {rows.map((r, i) => (
            <li key={i} className="flex gap-3 border-b border-rule py-1">
              <span className={`w-6 text-right ${r.running > 10 ? "font-semibold text-poppy" : "text-ink-2"}`}>
                {r.running}
              </span>
              <span className="font-mono text-small" style={{ paddingLeft: r.depth * 18 }}>
                {r.cost.term}
              </span>
              {r.cost.lookups > 1 && <span className="text-small text-ink-2">{r.cost.lookups} in total</span>}
            </li>
          ))}
        </ol>
      )}
    </>
  );
}
