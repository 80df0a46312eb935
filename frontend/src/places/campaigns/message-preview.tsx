import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { get, type M, post } from "../../api/client";
import { keys } from "../../api/keys";
import { useAction } from "../../parts/action";
import { Close, Dialog } from "../../parts/dialog";
import { Form } from "../../parts/form";
import { useMe } from "../../parts/me";
import { SourceDialog } from "../../parts/source";
import { Table } from "../../parts/table";
import { useTimes } from "../../parts/times";
import { Sentence } from "../../parts/waiting";

const VIEWS = ["Desktop", "Phone", "Plain text"] as const;
const LOOK = { supported: "text-clover", partly: "text-wheat", removed: "text-poppy" };
const PHONE = 40; // characters of a subject that a phone shows
const WIDE = 70;

/** The HTML as some readers turn it: dark, or with images off. */
function turned(html: string, dark: boolean, bare: boolean): string {
  let out = html;
  if (bare) out = out.replace(/(<img\b[^>]*?)\ssrc\s*=\s*("[^"]*"|'[^']*')/gi, "$1");
  const style = dark
    ? "<style>html{background:#111;filter:invert(1) hue-rotate(180deg)}img{filter:invert(1) hue-rotate(180deg)}</style>"
    : "";
  return out + style;
}

const cut = (text: string, most: number) => (text.length > most ? `${text.slice(0, most).trimEnd()}…` : text);

/** The message as one person gets it: by width, dark, without images; in the mailbox list; what readers drop. */
export function MessagePreview({ c, version, fromName }: { c: M["Campaign"]; version: number; fromName: string }) {
  const { moment } = useTimes();
  const me = useMe();
  const [view, setView] = useState<(typeof VIEWS)[number]>("Desktop");
  const [dark, setDark] = useState(false);
  const [bare, setBare] = useState(false);
  const [typed, setTyped] = useState("");
  const [email, setEmail] = useState("");
  const [said, setSaid] = useState("");
  const { run, error } = useAction();
  const q = useQuery({
    queryKey: keys.preview(c.id, c.subject, c.html, c.plain, c.preview, c.versions, version, email),
    queryFn: () => get(`/campaigns/${c.id}/preview?version=${version}&email=${encodeURIComponent(email)}`),
    placeholderData: (x) => x,
  });
  const d = q.data;
  const client = useQueryClient();
  const tests = useQuery({
    queryKey: keys.tests(c.id),
    queryFn: () => get(`/campaigns/${c.id}/tests`),
  });
  return (
    <>
      <Form
        act={() => {
          setEmail(typed.trim());
        }}
      >
        <label>
          <span className="label">Preview as subscriber</span>
          <input
            className="field"
            type="email"
            placeholder={d?.person ?? "an address"}
            value={typed}
            onChange={(e) => {
              setTyped(e.target.value);
              if (!e.target.value) setEmail("");
            }}
          />
        </label>
      </Form>
      <p className="mt-1 text-small text-ink-2">
        Type an address and press Enter. Leave empty for the first recipient.
      </p>
      <Sentence error={q.error} />
      {d?.problems.map((p) => (
        <p key={p} role="alert" className="mt-2 text-poppy">
          {p} It is left out here, and the campaign cannot start with it.
        </p>
      ))}
      {d && (
        <>
          <div className="mt-3 mb-2 border-y border-rule py-1.5 text-small">
            <p className="font-semibold">{cut(fromName || "no name", 30)}</p>
            <p>
              {d.subject.slice(0, PHONE) || "no subject"}
              <span className="text-ink-3" title="Cut off on phones">
                {d.subject.slice(PHONE, WIDE)}
                {d.subject.length > WIDE ? "…" : ""}
              </span>
            </p>
            <p className="truncate text-ink-2">{cut(d.preview, 100)}</p>
            {!c.preview && (
              <p className="mt-1 text-wheat">No preview text: the inbox shows the first words of the message.</p>
            )}
          </div>
          <div className="mb-2 flex items-center gap-3 border-b border-rule" role="tablist" aria-label="Preview">
            {VIEWS.map((v) => (
              <button
                key={v}
                type="button"
                role="tab"
                aria-selected={view === v}
                data-on={view === v}
                className="tab"
                onClick={() => setView(v)}
              >
                {v}
              </button>
            ))}
          </div>
          {view === "Plain text" || !d.html ? (
            <pre className="code max-h-[440px]">{d.plain}</pre>
          ) : (
            <>
              <p className="mb-1.5 flex gap-4 text-small">
                <label className="flex items-center gap-1.5">
                  <input type="checkbox" checked={dark} onChange={(e) => setDark(e.target.checked)} /> dark
                </label>
                <label className="flex items-center gap-1.5">
                  <input type="checkbox" checked={bare} onChange={(e) => setBare(e.target.checked)} /> images off
                </label>
                <Dialog
                  size="large"
                  titleClass="border-b border-rule px-6 py-3 text-[18px]"
                  title={d.subject || "No subject"}
                  trigger={
                    <button type="button" className="ml-auto text-cornflower hover:underline">
                      Full size
                    </button>
                  }
                >
                  <iframe
                    title="Preview at full size"
                    sandbox=""
                    srcDoc={turned(d.html, dark, bare)}
                    className="h-[80vh] w-full border-0 bg-white"
                  />
                  <div className="flex justify-end border-t border-rule px-6 py-3">
                    <Close main>Close</Close>
                  </div>
                </Dialog>
              </p>
              <div className="overflow-hidden rounded border border-rule bg-white" style={{ height: 420 }}>
                <iframe
                  title={`Preview at ${view.toLowerCase()} width${dark ? ", dark" : ""}${bare ? ", images off" : ""}`}
                  sandbox=""
                  srcDoc={turned(d.html, dark, bare)}
                  className="origin-top-left border-0"
                  style={
                    view === "Desktop"
                      ? { width: 640, height: 938, transform: "scale(0.446)" }
                      : { width: 375, height: 552, transform: "scale(0.76)" }
                  }
                />
              </div>
            </>
          )}
          {d.hosted.length > 0 && (
            <p className="mt-2 text-small text-ink-2">
              Images from {d.hosted.join(", ")} are not shown here, because this page loads nothing from outside.
              Recipients see them; upload them to keep them here.
            </p>
          )}
          <details className="mt-3">
            <summary className="cursor-pointer text-cornflower">
              HTML support by mail client:{" "}
              {d.support.filter((s) => s.web !== "supported" || s.desktop !== "supported").length || "nothing"}
            </summary>
            {d.support.length > 0 && (
              <Table label="Support of the HTML" className="mt-1 text-small">
                <thead>
                  <tr>
                    <th scope="col">In this HTML</th>
                    <th scope="col">Web</th>
                    <th scope="col">Desktop</th>
                    <th scope="col">Phone</th>
                  </tr>
                </thead>
                <tbody>
                  {d.support.map((s) => (
                    <tr key={s.what} title={`Alternative: ${s.instead}`}>
                      <td>
                        {s.what}
                        <span className="block text-ink-2">{s.instead}</span>
                      </td>
                      {([s.web, s.desktop, s.phone] as const).map((v, i) => (
                        <td key={i} className={LOOK[v]}>
                          {v}
                        </td>
                      ))}
                    </tr>
                  ))}
                </tbody>
              </Table>
            )}
          </details>
          <details className="mt-2">
            <summary className="cursor-pointer text-cornflower">Merge field values</summary>
            <Table label="Size and parts" className="mt-1 text-small">
              <tbody>
                {d.values.map((v) => (
                  <tr key={v.field}>
                    <td className="font-mono">{v.field}</td>
                    <td>{v.value || <span className="text-wheat">empty</span>}</td>
                  </tr>
                ))}
              </tbody>
            </Table>
          </details>
        </>
      )}
      <h2 className="mt-5 mb-1">Send a test</h2>
      <Form
        className="flex gap-2"
        act={async (form) => {
          setSaid("");
          const to = String(new FormData(form).get("to"))
            .split(/[\s,;]+/)
            .filter(Boolean);
          await run(async () => {
            try {
              for (const one of to) await post(`/campaigns/${c.id}/test`, { to: one, subscriber: d?.subscriber ?? 0 });
            } finally {
              await client.invalidateQueries({ queryKey: keys.tests(c.id) });
            }
            setSaid(
              `Test sent to ${to.join(", ")} as ${d?.person ?? "no one"} would receive it. Not counted in results.`,
            );
          });
        }}
      >
        <input
          className="field"
          name="to"
          inputMode="email"
          title="one address, or several with commas between"
          defaultValue={me.email}
          placeholder="you@kestrelquay.example"
          aria-label="Send a test to"
          required
        />
        <button type="submit" className="btn">
          Send
        </button>
      </Form>
      <button
        type="button"
        className="mt-1.5 text-cornflower hover:underline"
        onClick={async () => {
          setSaid("");
          await run(async () => {
            const done = await post(`/campaigns/${c.id}/placement`);
            setSaid(`Sent to ${done.count} seed mailboxes. Checks shows where the copies land.`);
          });
        }}
      >
        Run placement test with the seed mailboxes
      </button>
      <Sentence error={error} />
      {said && (
        <p role="status" className="mt-1 text-small text-clover">
          {said}{" "}
          {me.demo && (
            <a
              className="text-cornflower underline"
              href={`${me.world_url}/look/${me.email}`}
              target="_blank"
              rel="noreferrer"
            >
              View results
            </a>
          )}
        </p>
      )}
      {(tests.data?.copies.length ?? 0) > 0 && (
        <ul className="mt-3 text-small">
          {tests.data?.copies.slice(0, 4).map((x) => (
            <li key={x.id} className="flex justify-between gap-2 border-t border-rule py-1">
              <span className="truncate text-ink-2" title={x.recipient}>
                {moment(x.at)}, {x.recipient}
              </span>
              <SourceDialog
                path={`/tests/${x.id}`}
                title={`Test sent to ${x.recipient}`}
                trigger={
                  <button type="button" className="text-cornflower hover:underline">
                    source
                  </button>
                }
              />
            </li>
          ))}
        </ul>
      )}
    </>
  );
}
