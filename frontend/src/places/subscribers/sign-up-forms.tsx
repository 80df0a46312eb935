import { useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { type M, put } from "../../api/client";
import { peopleChanged } from "../../api/keys";
import { count } from "../../logic/format";
import { Ask } from "../../parts/ask";
import { Table } from "../../parts/table";
import { Quiet } from "../../parts/waiting";

/** The form of each list, what it asks, and what became of who joined, by day. */
export function SignUpForms({ d, analyst }: { d: M["ConsentView"]; analyst: boolean }) {
  return (
    <>
      <div className="mt-7 mb-1 flex items-baseline justify-between">
        <h2>Sign-up forms</h2>
        {analyst && (
          <WriteForm purposes={d.purposes} form={null}>
            New form…
          </WriteForm>
        )}
      </div>
      {!d.forms.length && (
        <Quiet>
          No sign-up form yet. Forms use double opt-in: after signing up, people confirm by a button in an email.
        </Quiet>
      )}
      {d.forms.length > 0 && (
        <Table label="Sign-up forms">
          <thead>
            <tr>
              <th scope="col">List</th>
              <th scope="col">Asks for</th>
              <th scope="col" className="n">
                Signed up
              </th>
              <th scope="col" className="n">
                Pending
              </th>
              <th scope="col" className="n">
                Confirmed
              </th>
              <th scope="col" className="n">
                Expired
              </th>
              <th scope="col">
                <span className="sr-only">Actions</span>
              </th>
            </tr>
          </thead>
          <tbody>
            {d.forms.map((f) => (
              <tr key={f.id} className={f.is_open ? "" : "text-ink-3"}>
                <td>
                  <a className="font-semibold hover:underline" href={f.address} target="_blank" rel="noreferrer">
                    {f.list_name}
                  </a>
                  {!f.is_open && " (closed)"}
                </td>
                <td>
                  {f.purposes.map((id) => d.purposes.find((p) => p.id === id)?.name).join(", ")}
                  <span className="block text-small text-ink-2">
                    {f.confirm
                      ? `double opt-in, reminders after ${f.reminders.join(" and ") || "no"} days`
                      : "single opt-in"}
                  </span>
                  <ByDay f={f} />
                </td>
                <td className="n">{count(f.joined)}</td>
                <td className="n">{count(f.pending)}</td>
                <td className="n">{count(f.confirmed)}</td>
                <td className="n">{count(f.expired)}</td>
                <td className="n">
                  {analyst && (
                    <WriteForm purposes={d.purposes} form={f}>
                      Change…
                    </WriteForm>
                  )}
                </td>
              </tr>
            ))}
          </tbody>
        </Table>
      )}
    </>
  );
}

/** What became of who joined on each of the last 30 days. */
function ByDay({ f }: { f: M["SignUpForm"] }) {
  if (!f.days.length) return null;
  const most = Math.max(...f.days.map((d) => d.joined));
  return (
    <details>
      <summary className="cursor-pointer text-small text-cornflower">by day, the last 30 days</summary>
      <Table label="Sign-ups by day" className="mt-1 text-small">
        <thead>
          <tr>
            <th scope="col">Sign-ups for</th>
            <th scope="col" className="w-[120px]">
              <span className="sr-only">Chart</span>
            </th>
            <th scope="col" className="n">
              Signed up
            </th>
            <th scope="col" className="n">
              Pending
            </th>
            <th scope="col" className="n">
              Confirmed
            </th>
            <th scope="col" className="n">
              Expired
            </th>
          </tr>
        </thead>
        <tbody>
          {f.days.map((x) => (
            <tr key={x.day}>
              <td className="whitespace-nowrap">{x.day}</td>
              <td aria-hidden>
                <span className="mt-1 flex h-[8px]">
                  {(
                    [
                      [x.confirmed, "bg-clover"],
                      [x.pending, "bg-cornflower"],
                      [x.expired, "bg-rule-strong"],
                    ] as const
                  ).map(([n, colour]) => (
                    <span key={colour} className={colour} style={{ width: `${(100 * n) / most}%` }} />
                  ))}
                </span>
              </td>
              <td className="n">{count(x.joined)}</td>
              <td className="n">{count(x.pending)}</td>
              <td className="n">{count(x.confirmed)}</td>
              <td className="n">{count(x.expired)}</td>
            </tr>
          ))}
        </tbody>
      </Table>
    </details>
  );
}

function WriteForm({
  purposes,
  form,
  children,
}: {
  purposes: M["Purpose"][];
  form: M["SignUpForm"] | null;
  children: string;
}) {
  const client = useQueryClient();
  const offered = purposes.filter((p) => !p.retired && !p.transactional);
  const [list, setList] = useState(form?.list_name ?? "");
  const [chosen, setChosen] = useState<number[]>(form?.purposes ?? []);
  const [intro, setIntro] = useState(form?.intro ?? "");
  const [confirm, setConfirm] = useState(form?.confirm ?? true);
  const [askName, setAskName] = useState(form?.ask_name ?? true);
  const [open, setOpen] = useState(form?.is_open ?? true);
  const [subject, setSubject] = useState(form?.mail_subject ?? "");
  const [text, setText] = useState(form?.mail_text ?? "");
  const [reminders, setReminders] = useState((form?.reminders ?? [2, 6]).join(", "));
  return (
    <Ask
      trigger={
        <button type="button" className="btn btn-bare py-0">
          {children}
        </button>
      }
      title={form ? `Sign-up form of ${form.list_name}` : "New sign-up form"}
      words="Save form"
      disabled={!list.trim() || !chosen.length}
      act={async () => {
        await put("/forms", {
          list_name: list,
          purposes: chosen,
          intro,
          confirm,
          ask_name: askName,
          is_open: open,
          mail_subject: subject,
          mail_text: text,
          reminders: reminders
            .split(/[\s,]+/)
            .filter(Boolean)
            .map(Number),
        });
        await peopleChanged(client);
      }}
    >
      <div className="text-ink">
        {!form && (
          <label className="mb-3 block">
            <span className="label">List to join</span>
            <input className="field" value={list} onChange={(e) => setList(e.target.value)} />
          </label>
        )}
        <label className="mb-3 block">
          <span className="label">Introduction</span>
          <input className="field" value={intro} onChange={(e) => setIntro(e.target.value)} />
        </label>
        <fieldset className="mb-3">
          <legend className="label">Purposes (no pre-ticked boxes)</legend>
          {offered.map((p) => (
            <label key={p.id} className="flex items-baseline gap-2">
              <input
                type="checkbox"
                checked={chosen.includes(p.id)}
                onChange={() => setChosen(chosen.includes(p.id) ? chosen.filter((x) => x !== p.id) : [...chosen, p.id])}
              />
              {p.name}
            </label>
          ))}
        </fieldset>
        <label className="flex items-baseline gap-2">
          <input type="checkbox" checked={confirm} onChange={(e) => setConfirm(e.target.checked)} />
          Double opt-in: confirmed by a button in an email
        </label>
        {confirm && (
          <label className="mt-2 mb-2 block">
            <span className="label">Reminders after (days)</span>
            <input className="field w-[120px]!" value={reminders} onChange={(e) => setReminders(e.target.value)} />
          </label>
        )}
        {confirm && (
          <details className="mb-2">
            <summary className="cursor-pointer text-cornflower">Custom confirmation email</summary>
            <label className="mt-2 block">
              <span className="label">Subject</span>
              <input
                className="field"
                value={subject}
                placeholder={`Please confirm: ${list || "the list"}`}
                onChange={(e) => setSubject(e.target.value)}
              />
            </label>
            <label className="mt-2 block">
              <span className="label">
                Text; {"{{ link }}"} becomes the address of the confirmation page; {"{{ name }}"} and {"{{ list }}"} can
                be used
              </span>
              <textarea
                className="field"
                rows={5}
                value={text}
                placeholder="Empty: our own short text"
                onChange={(e) => setText(e.target.value)}
              />
            </label>
          </details>
        )}
        <label className="flex items-baseline gap-2">
          <input type="checkbox" checked={askName} onChange={(e) => setAskName(e.target.checked)} />
          Ask for the name
        </label>
        <label className="flex items-baseline gap-2">
          <input type="checkbox" checked={open} onChange={(e) => setOpen(e.target.checked)} />
          Open
        </label>
      </div>
    </Ask>
  );
}
