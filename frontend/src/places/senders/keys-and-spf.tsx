import { useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { type M, post, remove } from "../../api/client";
import { keys } from "../../api/keys";
import { Ask } from "../../parts/ask";
import { useMe } from "../../parts/me";
import { useTimes } from "../../parts/times";

const KINDS = { rsa: "RSA 2048 (most compatible)", ed25519: "Ed25519 (shorter, newer)" } as const;

function stateOf(k: M["BesideKey"], day: (at: number) => string): string {
  if (k.state === "second") return "signs too";
  if (k.state === "old") return `is retired, valid until ${day(k.made_at + 7 * 86400)}`;
  return k.beside ? "is waiting to be published, to sign too" : "is waiting to be published";
}

/** The key in use, one that signs beside it, the next one that waits to be proved, the old one kept for a week. */
export function Keys({ d }: { d: M["Domain"] }) {
  const { day } = useTimes();
  const client = useQueryClient();
  const me = useMe();
  const [kind, setKind] = useState<keyof typeof KINDS | "both">("rsa");
  const other = d.key_kind === "rsa" ? "ed25519" : "rsa";
  const twice = d.keys.some((k) => k.state === "second");
  const again = () => client.invalidateQueries({ queryKey: keys.senders() });
  return (
    <p className="mt-2 text-ink-2">
      {d.selector ? (
        <>
          Signs with selector <span className="font-mono text-small">{d.selector}</span>
          {d.keys.map((k) => (
            <span key={k.selector}>
              ; <span className="font-mono text-small">{k.selector}</span> {stateOf(k, day)}
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
            await post(`/senders/${d.id}/key?kind=${kind === "both" ? other : kind}&beside=${kind === "both"}`);
            await again();
          }}
        >
          {!d.selector
            ? "It is used right away. Publish its record before you send."
            : kind === "both"
              ? "Publish the new record. Once it is found, campaigns carry both signatures: receivers that do not know Ed25519 use the RSA one."
              : "Mail is still signed with the current key. Publish the new record. Once it is found, the new key is used and the old one stays valid for a week."}
          <label className="mt-3 block text-ink">
            <span className="label">Kind</span>
            <select className="field w-[280px]!" value={kind} onChange={(e) => setKind(e.target.value as typeof kind)}>
              {(["rsa", "ed25519"] as const).map((k) => (
                <option key={k} value={k}>
                  {KINDS[k]}
                </option>
              ))}
              {d.selector && !twice && (
                <option value="both">Both: {KINDS[other].split(" (")[0]} beside the current key</option>
              )}
            </select>
          </label>
        </Ask>
      )}
      {me.role === "analyst" && twice && (
        <Ask
          trigger={
            <button type="button" className="btn btn-bare py-0">
              Stop signing twice…
            </button>
          }
          title={`Stop the second signature of ${d.name}?`}
          words="Stop signing twice"
          act={async () => {
            await remove(`/senders/${d.id}/second-signature`);
            await again();
          }}
        >
          Only {d.selector} signs from now on. Keep the other record for a week, for mail still in transit.
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
