import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router";
import { get, type M, patch, post, remove } from "../../api/client";
import { keys, peopleChanged } from "../../api/keys";
import { useAction } from "../../parts/action";
import { Ask } from "../../parts/ask";
import { Form } from "../../parts/form";
import { Choice } from "../../parts/labelled";
import { useMe } from "../../parts/me";
import { Table } from "../../parts/table";
import { useTimes } from "../../parts/times";
import { offerUndo } from "../../parts/undo-offer";
import { Sentence } from "../../parts/waiting";
import { useNames } from "../segments/list";
import { MergeAsk } from "./duplicates";

/** Name, labels and fields, changed in place; each change can be undone. */
export function Details({ p }: { p: M["Person"] }) {
  const client = useQueryClient();
  const me = useMe();
  const names = useNames();
  const { run, error } = useAction();
  const refresh = () => peopleChanged(client);
  const save = async (what: string, body: Partial<M["PersonIn"]>) => {
    await run(async () => {
      const acted = await patch(`/subscribers/${p.id}`, body);
      await refresh();
      offerUndo({
        words: `${what} of ${p.name || p.email} updated.`,
        undo: async () => {
          await post(`/activity/${acted.action}/undo`);
          await refresh();
        },
      });
    });
  };
  const may = me.role !== "observer";
  const fields = { ...Object.fromEntries((names.field ?? []).map((f) => [f.name, ""])), ...p.fields };
  return (
    <section className="mb-6" aria-label="Details">
      <div className="grid grid-cols-[repeat(auto-fill,minmax(150px,1fr))] gap-x-5 gap-y-2">
        {(["name", "language", "country", "time_zone"] as const).map((k) => (
          <Cell
            key={k}
            words={k.replace("_", " ")}
            value={p[k]}
            may={may}
            save={(v) => save(k.replace("_", " "), { [k]: v })}
          />
        ))}
        {Object.entries(fields).map(([k, v]) => (
          <Cell
            key={`field:${k}`}
            words={k}
            value={String(v)}
            may={may}
            save={(x) => save(k, { fields: { ...p.fields, [k]: x } })}
          />
        ))}
      </div>
      <div className="mt-3 flex flex-wrap items-center gap-2">
        {p.labels.map((l) => (
          <span key={l} className="tag tag-plain">
            {l}
            {may && (
              <button
                type="button"
                className="ml-1.5"
                aria-label={`Remove the label ${l}`}
                onClick={() => save("The label", { labels: p.labels.filter((x) => x !== l) })}
              >
                ×
              </button>
            )}
          </span>
        ))}
        {may && (
          <AddLabel
            names={(names.label ?? []).map((l) => l.name)}
            add={(l) => save("The label", { labels: [...p.labels, l] })}
          />
        )}
        <span className="text-small text-ink-2">{p.lists.length > 0 && `in ${p.lists.join(", ")}`}</span>
      </div>
      <Sentence error={error} />
    </section>
  );
}

function AddLabel({ names, add }: { names: string[]; add: (l: string) => void }) {
  const [value, setValue] = useState("");
  return (
    <Form
      act={() => {
        if (value.trim()) add(value.trim());
        setValue("");
      }}
    >
      <input
        className="field w-[130px] py-0"
        style={{ height: 25 }}
        list="labels-there"
        aria-label="Label to add"
        placeholder="add a label"
        value={value}
        onChange={(e) => setValue(e.target.value)}
      />
      <datalist id="labels-there">
        {names.map((n) => (
          <option key={n} value={n} />
        ))}
      </datalist>
    </Form>
  );
}

/** One value that turns into a field when pressed; Enter keeps it, Esc leaves it as it was. */
function Cell({ words, value, may, save }: { words: string; value: string; may: boolean; save: (v: string) => void }) {
  const [editing, setEditing] = useState(false);
  const [text, setText] = useState(value);
  const keep = () => {
    setEditing(false);
    if (text.trim() !== value) save(text.trim());
  };
  return (
    <div className="min-w-0">
      <span className="label mb-0!">{words}</span>
      {editing ? (
        <input
          // biome-ignore lint/a11y/noAutofocus: it was pressed to be typed into
          autoFocus
          className="field"
          aria-label={words}
          value={text}
          onChange={(e) => setText(e.target.value)}
          onBlur={keep}
          onKeyDown={(e) => {
            if (e.key === "Enter") keep();
            if (e.key === "Escape") {
              setText(value);
              setEditing(false);
              e.stopPropagation();
            }
          }}
        />
      ) : (
        <button
          type="button"
          className="block w-full truncate border-b border-dashed border-rule-strong py-1 text-left disabled:border-transparent"
          disabled={!may}
          aria-label={`Change ${words}, now ${value || "empty"}`}
          onClick={() => {
            setText(value);
            setEditing(true);
          }}
        >
          {value || <span className="text-ink-3">empty</span>}
        </button>
      )}
    </div>
  );
}

export function Notes({ p, now }: { p: M["Person"]; now: number }) {
  const { when } = useTimes();
  const client = useQueryClient();
  const me = useMe();
  const [text, setText] = useState("");
  const { run, error } = useAction();
  const act = async (f: () => Promise<unknown>) => {
    await run(async () => {
      await f();
      await client.invalidateQueries({ queryKey: ["subscribers", "person"] });
    });
  };
  if (me.role === "observer" && !p.notes.length) return null;
  return (
    <section className="mb-6" aria-label="Notes">
      <h2 className="mb-1">Notes</h2>
      {p.notes.map((n) => (
        <p key={n.id} className="flex gap-4 border-b border-rule py-1.5">
          <span className="flex-1 whitespace-pre-wrap">{n.text}</span>
          <span className="text-small text-ink-2">
            {n.who}, {when(n.at, now)}
          </span>
          {me.role !== "observer" && (
            <button
              type="button"
              className="text-ink-3 hover:text-ink"
              aria-label="Delete note"
              onClick={() => act(() => remove(`/subscribers/${p.id}/notes/${n.id}`))}
            >
              ×
            </button>
          )}
        </p>
      ))}
      {me.role !== "observer" && (
        <Form
          className="mt-2 flex gap-2"
          act={() => {
            if (text.trim()) act(() => post(`/subscribers/${p.id}/notes`, { text })).then(() => setText(""));
          }}
        >
          <input
            className="field"
            aria-label="Note"
            placeholder="A note for your colleagues"
            value={text}
            onChange={(e) => setText(e.target.value)}
          />
          <button type="submit" className="btn" disabled={!text.trim()}>
            Add
          </button>
        </Form>
      )}
      <Sentence error={error} />
    </section>
  );
}

/** Export everything about them, and erase. */
export function PersonActs({ p }: { p: M["Person"] }) {
  const go = useNavigate();
  const me = useMe();
  const client = useQueryClient();
  const [typed, setTyped] = useState("");
  const [email, setEmail] = useState(p.email);
  return (
    <>
      <a className="btn" href={`/api/subscribers/${p.id}/everything.html`} download>
        Export everything
      </a>
      <a className="btn" href={`/api/subscribers/${p.id}/everything.json`} download>
        <span className="sr-only">Export everything as </span>JSON
      </a>
      {me.role === "analyst" && (
        <Ask
          trigger={
            <button type="button" className="btn">
              Change address…
            </button>
          }
          title="Change the address"
          words="Change address"
          opened={() => setEmail(p.email)}
          disabled={!email.trim() || email.trim() === p.email}
          act={async () => {
            const done = await post(`/subscribers/${p.id}/address`, { email });
            await peopleChanged(client);
            offerUndo({
              words: "Address changed.",
              undo: async () => {
                await post(`/activity/${done.action}/undo`);
                await peopleChanged(client);
              },
            });
          }}
        >
          <label>
            <span className="label">New address; it is checked anew</span>
            <input className="field" type="email" value={email} onChange={(e) => setEmail(e.target.value)} />
          </label>
        </Ask>
      )}
      {me.role === "analyst" && (
        <MergeAsk
          keep={{ id: p.id, email: p.email, name: p.name }}
          trigger={
            <button type="button" className="btn">
              Merge…
            </button>
          }
        />
      )}
      {me.role === "analyst" && (
        <Ask
          trigger={
            <button type="button" className="btn btn-grave">
              Erase personal data…
            </button>
          }
          title={`Erase ${p.name || p.email}?`}
          words="Erase permanently"
          grave
          disabled={typed.trim().toLowerCase() !== p.email.toLowerCase()}
          act={async () => {
            await remove(`/subscribers/${p.id}`);
            await peopleChanged(client);
            go("/subscribers/table");
          }}
        >
          <p className="mb-3">
            Name, address, fields, labels, notes, {p.consent.length} consent{" "}
            {p.consent.length === 1 ? "source" : "sources"} and the IP addresses of {p.events.length} events are
            deleted. Anonymous counts in results remain. A keyed hash of the address prevents a new import. This cannot
            be undone.
          </p>
          <label className="block text-ink">
            <span className="label">Type the address to confirm: {p.email}</span>
            <input className="field" value={typed} onChange={(e) => setTyped(e.target.value)} />
          </label>
        </Ask>
      )}
    </>
  );
}

/** What somebody said in person, with how we know. */
function SaidInPerson({ p }: { p: M["Person"] }) {
  const client = useQueryClient();
  const q = useQuery({ queryKey: keys.consent(), queryFn: () => get("/consent") });
  const [purpose, setPurpose] = useState(0);
  const [state, setState] = useState<"given" | "withdrawn">("given");
  const [reason, setReason] = useState("");
  const offered = (q.data?.purposes ?? []).filter((x) => !x.transactional && !x.retired);
  const chosen = purpose || offered[0]?.id || 0;
  return (
    <Ask
      trigger={
        <button type="button" className="btn btn-bare py-0">
          Record consent…
        </button>
      }
      title="Record a consent decision"
      words="Save record"
      disabled={!reason.trim() || !chosen}
      act={async () => {
        await post(`/subscribers/${p.id}/consent`, { purpose: chosen, state, reason });
        await peopleChanged(client);
      }}
    >
      <div className="grid grid-cols-2 gap-3 text-ink">
        <label>
          <span className="label">Purpose</span>
          <select className="field" value={chosen} onChange={(e) => setPurpose(Number(e.target.value))}>
            {offered.map((x) => (
              <option key={x.id} value={x.id}>
                {x.name}
              </option>
            ))}
          </select>
        </label>
        <Choice
          label="Decision"
          value={state}
          set={setState}
          of={[
            ["given", "consent given"],
            ["withdrawn", "consent withdrawn"],
          ]}
        />
        <label className="col-span-2">
          <span className="label">Evidence (required)</span>
          <input
            className="field"
            placeholder="for example: said so at the box office on 3 March"
            value={reason}
            onChange={(e) => setReason(e.target.value)}
          />
        </label>
      </div>
    </Ask>
  );
}

export function ConsentHistory({ p }: { p: M["Person"] }) {
  const { clockTime, day } = useTimes();
  const me = useMe();
  const byHand = me.role === "analyst" && <SaidInPerson p={p} />;
  if (!p.consent.length) return <p className="mb-6">{byHand}</p>;
  return (
    <details className="mb-6">
      <summary className="cursor-pointer text-cornflower">
        Consent history, {p.consent.length} {p.consent.length === 1 ? "entry" : "entries"}
      </summary>
      <Table label="Consent history" className="mt-1">
        <thead>
          <tr>
            <th scope="col">When</th>
            <th scope="col">Purpose</th>
            <th scope="col">Channel</th>
            <th scope="col">State</th>
            <th scope="col">Method</th>
            <th scope="col">Wording shown</th>
          </tr>
        </thead>
        <tbody>
          {p.consent.map((c, i) => (
            <tr key={i}>
              <td className="whitespace-nowrap text-ink-2">
                {day(c.at)}, {clockTime(c.at)}
              </td>
              <td>{c.purpose}</td>
              <td>{c.channel}</td>
              <td className="font-semibold">{c.state}</td>
              <td>
                {c.source || "no source stated"}
                {c.page && <span className="block text-small text-ink-2 [overflow-wrap:anywhere]">{c.page}</span>}
              </td>
              <td className="max-w-[260px]">
                {c.wording || <span className="text-ink-2">not stored</span>}
                {c.wording_text && <span className="block text-small text-ink-2">“{c.wording_text}”</span>}
              </td>
            </tr>
          ))}
        </tbody>
      </Table>
      <p className="mt-2 flex items-center gap-4">
        {byHand}
        <a className="text-cornflower underline" href={`/api/subscribers/${p.id}/consent-record.csv`} download>
          Download record
        </a>
      </p>
    </details>
  );
}
