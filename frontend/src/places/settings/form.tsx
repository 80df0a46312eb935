import { useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { type M, put } from "../../api/client";
import { keys } from "../../api/keys";
import { asText, asValue } from "../../logic/settings";
import { useAction } from "../../parts/action";
import { Form } from "../../parts/form";
import { useMe } from "../../parts/me";
import { useGuarded } from "../../parts/proving";
import { useTimes } from "../../parts/times";
import { Sentence } from "../../parts/waiting";

/** One group of settings; what was changed is saved together, or not at all. */
export function SettingsForm({ group, askedBy }: { group: M["SettingGroup"]; askedBy: string }) {
  const { clockTime } = useTimes();
  const client = useQueryClient();
  const me = useMe();
  const guarded = useGuarded();
  const [typed, setTyped] = useState<Record<string, string>>({});
  const [saved, setSaved] = useState("");
  const { run, error } = useAction();
  const mine = me.role === "analyst";
  const changed = group.settings.filter((s) => typed[s.name] !== undefined && typed[s.name] !== asText(s));
  return (
    <Form
      act={async () => {
        await run(async () => {
          const values = Object.fromEntries(changed.map((s) => [s.name, asValue(s, typed[s.name] ?? "")]));
          const now = await guarded(() => put("/settings", { values }));
          client.setQueryData(keys.settings(), now);
          setTyped({});
          setSaved(`Saved ${clockTime(Date.now() / 1000)}.`);
          await client.invalidateQueries({ predicate: (q) => q.queryKey[0] !== "settings" });
        });
      }}
    >
      <h2 className="mb-1">{group.name}</h2>
      <fieldset disabled={!mine} className="contents">
        {group.settings.map((s) => (
          <div
            key={s.name}
            className="grid grid-cols-[170px_minmax(0,1fr)] gap-x-5 border-b border-rule py-3 max-phone:grid-cols-1"
          >
            <label htmlFor={s.name} className="pt-1.5 font-semibold">
              {s.label}
            </label>
            <div>
              <Control
                setting={s}
                text={typed[s.name] ?? asText(s)}
                set={(text) => setTyped({ ...typed, [s.name]: text })}
              />
              <p id={`${s.name}-help`} className="mt-1 text-small text-ink-2">
                {s.help}
                {s.kind === "number" && ` ${s.range}.`}
                {s.default !== "" && s.kind !== "object" && s.kind !== "switch" && s.kind !== "list" && (
                  <> Default: {String(s.default)}.</>
                )}
                {s.name === "require_approval" && askedBy && (
                  <b className="block text-wheat">
                    {askedBy} asked to turn this off. Another analyst has to confirm it.
                  </b>
                )}
              </p>
            </div>
          </div>
        ))}
        <div className="mt-4 flex items-center gap-4">
          <button type="submit" className="btn btn-main" disabled={!changed.length}>
            {changed.length > 1 ? `Save ${changed.length} settings` : "Save setting"}
          </button>
          {changed.length > 0 && (
            <button type="button" className="btn" onClick={() => setTyped({})}>
              Cancel
            </button>
          )}
          {saved && !changed.length && (
            <span role="status" className="text-clover">
              {saved}
            </span>
          )}
        </div>
      </fieldset>
      <Sentence error={error} />
    </Form>
  );
}

function Control({ setting: s, text, set }: { setting: M["SettingLine"]; text: string; set: (text: string) => void }) {
  const common = { id: s.name, value: text, "aria-describedby": `${s.name}-help` };
  const on = (e: { target: { value: string } }) => set(e.target.value);
  if (s.name === "layout")
    return (
      <Link className="inline-block pt-1.5 text-cornflower underline" to="/campaigns/layout">
        Edit the layout
      </Link>
    );
  if (s.kind === "switch")
    return (
      <span className="flex min-h-[31px] items-center">
        <input
          id={s.name}
          type="checkbox"
          aria-describedby={`${s.name}-help`}
          checked={text === "true"}
          onChange={(e) => set(String(e.target.checked))}
        />
      </span>
    );
  if (s.kind === "choice")
    return (
      <select className="field max-w-[260px]" {...common} onChange={on}>
        {s.choices.map((c) => (
          <option key={c} value={c}>
            {c || "default"}
          </option>
        ))}
      </select>
    );
  if (s.kind === "number")
    return (
      <span className="flex items-center gap-2">
        <input
          className="field w-[110px]!"
          type="number"
          min={s.low ?? undefined}
          max={s.high ?? undefined}
          step={1}
          required
          {...common}
          onChange={on}
        />
        {s.unit}
      </span>
    );
  if (s.name === "guardrails") return <Limits text={text} set={set} of={s} />;
  if (s.kind === "list" || s.kind === "object")
    return (
      <textarea
        className="field font-mono text-small"
        rows={Math.min(8, Math.max(2, text.split("\n").length))}
        placeholder={s.kind === "list" ? "one a line" : "{}"}
        spellCheck={false}
        {...common}
        onChange={on}
      />
    );
  if (s.name === "time_zone")
    return (
      <>
        <input className="field max-w-[260px]" list="zones" spellCheck={false} {...common} onChange={on} />
        <datalist id="zones">
          {["UTC", ...Intl.supportedValuesOf("timeZone")].map((z) => (
            <option key={z} value={z} />
          ))}
        </datalist>
      </>
    );
  return (
    <input
      className="field"
      type={s.kind === "secret" ? "password" : "text"}
      autoComplete={s.kind === "secret" ? "new-password" : "off"}
      placeholder={s.kind === "secret" && s.value ? "set; type to replace" : ""}
      spellCheck={false}
      {...common}
      onChange={on}
    />
  );
}

/** The six limits, in percent; one left empty keeps its default. */
function Limits({ text, set, of }: { text: string; set: (text: string) => void; of: M["SettingLine"] }) {
  const usual = of.default as Record<string, number>;
  let limits: Record<string, number> = {};
  try {
    limits = JSON.parse(text || "{}") as Record<string, number>;
  } catch {
    // shown as nothing typed
  }
  return (
    <div id={of.name} className="grid grid-cols-2 gap-x-6 gap-y-1.5 max-phone:grid-cols-1">
      {Object.keys(usual).map((name) => (
        <label key={name} className="flex items-center justify-between gap-3 font-normal">
          <span className="first-letter:uppercase">{name}</span>
          <span className="flex items-center gap-1">
            <input
              className="field w-[84px]! text-right"
              type="number"
              min={0.01}
              max={99}
              step={0.01}
              placeholder={String(Number(((usual[name] ?? 0) * 100).toFixed(4)))}
              value={limits[name] === undefined ? "" : Number((limits[name] * 100).toFixed(4))}
              onChange={(e) => {
                const { [name]: _, ...others } = limits;
                const value = Number(e.target.value);
                set(JSON.stringify(value ? { ...others, [name]: Number((value / 100).toFixed(6)) } : others));
              }}
            />
            %
          </span>
        </label>
      ))}
    </div>
  );
}
