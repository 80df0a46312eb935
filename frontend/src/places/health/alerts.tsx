import { useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { type M, post, put } from "../../api/client";
import { keys } from "../../api/keys";
import { useAction } from "../../parts/action";
import { Form } from "../../parts/form";
import { Sentence } from "../../parts/waiting";

/** Who gets word when nobody is looking: a held plan, a broken sender, a jump; once, with the sentence and the link. */
export function WordSettings({ words, analyst }: { words: M["Alerts"]; analyst: boolean }) {
  const client = useQueryClient();
  const [to, setTo] = useState(words.to.join(", "));
  const [url, setUrl] = useState(words.url);
  const [quiet, setQuiet] = useState(words.quiet_hours);
  const [said, setSaid] = useState("");
  const { run, error } = useAction();
  const act = async (f: () => Promise<string>) => {
    setSaid("");
    await run(async () => {
      setSaid(await f());
      await client.invalidateQueries({ queryKey: keys.health() });
    });
  };
  const keep = () =>
    put("/health/alerts", { to: to.split(/[\s,]+/).filter(Boolean), url, quiet_hours: quiet.replaceAll(" ", "") });
  return (
    <Form
      className="mt-7"
      act={() => {
        act(async () => {
          await keep();
          return "Saved.";
        });
      }}
    >
      <h2>Alerts</h2>
      <p className="mt-1 text-small text-ink-2">
        You are alerted once when a campaign is paused, a sender fails its checks, or complaints or blocks spike.
      </p>
      <label className="mt-2 block">
        <span className="label">Email to</span>
        <input
          className="field"
          disabled={!analyst}
          value={to}
          placeholder="addresses"
          onChange={(e) => setTo(e.target.value)}
        />
      </label>
      <label className="mt-2 block">
        <span className="label">Webhook (JSON)</span>
        <input className="field" disabled={!analyst} value={url} onChange={(e) => setUrl(e.target.value)} />
      </label>
      <label className="mt-2 block">
        <span className="label">Quiet hours</span>
        <input
          className="field w-[110px]!"
          disabled={!analyst}
          value={quiet}
          placeholder="22-7"
          onChange={(e) => setQuiet(e.target.value)}
        />
      </label>
      <Sentence error={error} />
      {said && (
        <p role="status" className="mt-2 text-clover">
          {said}
        </p>
      )}
      {analyst && (
        <div className="mt-3 flex gap-2">
          <button type="submit" className="btn">
            Save alerts
          </button>
          <button
            type="button"
            className="btn"
            onClick={() =>
              act(async () => {
                await keep();
                const done = await post("/health/alerts/test");
                return `Sent to ${done.count} ${done.count === 1 ? "recipient" : "recipients"}.`;
              })
            }
          >
            Send test alert
          </button>
        </div>
      )}
    </Form>
  );
}
