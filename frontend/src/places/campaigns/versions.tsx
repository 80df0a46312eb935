import { useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { type M, post, put } from "../../api/client";
import { changedIn, keys } from "../../api/keys";
import { count } from "../../logic/format";
import { useAction } from "../../parts/action";
import { Ask } from "../../parts/ask";
import { useMe } from "../../parts/me";
import { Table } from "../../parts/table";
import { useTimes } from "../../parts/times";
import { Sentence } from "../../parts/waiting";

/** The versions of a message: in a draft the one to try against the first, afterwards all that were said. */
export function VersionTabs({
  c,
  version,
  show,
  set,
}: {
  c: M["Campaign"];
  version: number;
  show: (n: number) => void;
  set: (c: M["Campaign"]) => void;
}) {
  const draft = c.state === "draft";
  const other = c.versions.find((v) => v.n === 2);
  const tabs: [number, string][] = draft
    ? [[0, "Version A"], ...(other ? ([[2, "Version B"]] as [number, string][]) : [])]
    : [
        [0, `Version ${c.version}, in use`],
        ...c.versions
          .filter((v) => v.letter !== c.version)
          .map((v) => [v.n, `Version ${v.letter}`] as [number, string]),
      ];
  const keep = async (body: M["ChangeIn"]) => set(await put(`/campaigns/${c.id}/other-version`, body));
  if (tabs.length < 2 && (!draft || !c.html.trim() || c.sequence)) return null;
  return (
    <div className="mb-3 flex items-center gap-4 border-b border-rule">
      {tabs.length > 1 && (
        <div className="flex gap-4" role="tablist" aria-label="Versions">
          {tabs.map(([n, words]) => (
            <button
              key={n}
              type="button"
              role="tab"
              aria-selected={version === n}
              data-on={version === n}
              className="tab"
              onClick={() => show(n)}
            >
              {words}
            </button>
          ))}
        </div>
      )}
      {draft && !other && (
        <button type="button" className="btn btn-bare -ml-2 py-0" onClick={() => keep({})}>
          A/B test…
        </button>
      )}
      {draft && other && (
        <span className="ml-auto flex items-baseline gap-2 text-small text-ink-2">
          {c.plan.test ? "Tested in the pilot batch, at random." : "Turn on the A/B test under Schedule."}
          <button
            type="button"
            className="btn btn-bare py-0"
            onClick={() => {
              show(0);
              keep({ forget: true });
            }}
          >
            Remove version B
          </button>
        </span>
      )}
    </div>
  );
}

/** Under way: another version for those who still wait, after a look at what differs. */
export function ChangeBar({
  c,
  changing,
  texts,
  begin,
  end,
}: {
  c: M["Campaign"];
  changing: boolean;
  texts: M["ChangeIn"];
  begin: () => void;
  end: () => void;
}) {
  const me = useMe();
  const client = useQueryClient();
  const [shown, setShown] = useState<M["Changed"] | null>(null);
  const { run, error, forget } = useAction();
  if (me.role !== "analyst") return null;
  const ask = async (only_show: boolean) => {
    let found: M["Changed"] | null = null;
    const done = await run(async () => {
      found = await post(`/campaigns/${c.id}/change`, { ...texts, only_show });
    });
    if (!done) setShown(null);
    return found as M["Changed"] | null;
  };
  if (!changing)
    return (
      <p className="mb-3">
        <button type="button" className="btn" onClick={begin}>
          Edit for remaining recipients…
        </button>
      </p>
    );
  return (
    <section className="mb-4 border-y border-rule py-3" aria-label="New version">
      <div className="flex items-center gap-2">
        <button type="button" className="btn btn-main" onClick={async () => setShown(await ask(true))}>
          Show differences
        </button>
        <button
          type="button"
          className="btn"
          onClick={() => {
            setShown(null);
            forget();
            end();
          }}
        >
          Discard
        </button>
      </div>
      <Sentence error={error} />
      {shown && (
        <div className="mt-3">
          <Difference of={shown.differs} />
          <p className="mt-2 flex items-center gap-3">
            <span>
              {count(shown.waiting)} remaining recipients will get version {shown.version}; {count(shown.sent)} already
              have theirs.
            </span>
            <button
              type="button"
              className="btn btn-grave"
              onClick={async () => {
                if (await ask(false)) {
                  await changedIn(client, "campaigns");
                  setShown(null);
                  end();
                }
              }}
            >
              Save for {count(shown.waiting)} recipients
            </button>
          </p>
        </div>
      )}
    </section>
  );
}

const PART: Record<string, string> = { subject: "Subject", preview: "Preview text", html: "HTML", plain: "Plain text" };

function Difference({ of }: { of: M["Differs"][] }) {
  return (
    <>
      {of.map((d) => (
        <div key={d.part} className="mb-2">
          <span className="label">{PART[d.part] ?? d.part}</span>
          <div className="max-h-[180px] overflow-auto font-mono text-small">
            {d.lines.map(([sign, line], i) => (
              <p key={i} className={sign === "+" ? "bg-clover-pale" : "bg-poppy-pale"}>
                {sign === "+" ? "+ " : "− "}
                {line}
              </p>
            ))}
          </div>
        </div>
      ))}
    </>
  );
}

/** What was said to how many, version by version. */
export function VersionList({ c }: { c: M["Campaign"] }) {
  const { moment } = useTimes();
  const client = useQueryClient();
  const me = useMe();
  if (c.versions.length < 2) return null;
  const picks = ["scheduled", "sending", "paused"].includes(c.state) && me.role === "analyst";
  return (
    <>
      <h2 className="mt-6 mb-1">Versions</h2>
      <Table label="Versions">
        <tbody>
          {c.versions.map((v) => (
            <tr key={v.n}>
              <td className="w-[60px] font-semibold">{v.letter}</td>
              <td>
                {v.subject}
                {v.letter === c.version && <span className="text-clover"> · in use</span>}
              </td>
              <td className="text-ink-2">
                {v.who ? `${v.who}, ` : ""}
                {moment(v.at)}
              </td>
              <td className="n">{count(v.sent)} sent</td>
              <td className="n w-[130px]">
                {picks && v.letter !== c.version && (
                  <Ask
                    trigger={
                      <button type="button" className="btn btn-bare py-0">
                        Use it…
                      </button>
                    }
                    title={`Use version ${v.letter} for the remaining recipients?`}
                    words={`Use version ${v.letter}`}
                    act={async () => {
                      await post(`/campaigns/${c.id}/use`, { n: v.n });
                      await changedIn(client, "campaigns");
                    }}
                  >
                    Remaining recipients get “{v.subject}”.
                  </Ask>
                )}
              </td>
            </tr>
          ))}
        </tbody>
      </Table>
    </>
  );
}

/** Keep what works for the next time. */
export function KeepTemplate({ c }: { c: M["Campaign"] }) {
  const client = useQueryClient();
  const [name, setName] = useState(c.name);
  return (
    <Ask
      trigger={
        <button type="button" className="btn">
          Save as template…
        </button>
      }
      title="Save as template"
      words="Save template"
      disabled={!name.trim()}
      act={async () => {
        await post(`/campaigns/${c.id}/template`, { name });
        await client.invalidateQueries({ queryKey: keys.templates() });
      }}
    >
      Saves subject, preview text and body. New campaigns can start from it.
      <label className="mt-3 block text-ink">
        <span className="label">Name</span>
        <input className="field" value={name} onChange={(e) => setName(e.target.value)} />
      </label>
    </Ask>
  );
}
