import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { get, type M, post, put, remove } from "../../api/client";
import { keys } from "../../api/keys";
import { count } from "../../logic/format";
import { useAction } from "../../parts/action";
import { Ask } from "../../parts/ask";
import { Form } from "../../parts/form";
import { Table } from "../../parts/table";
import { useTimes } from "../../parts/times";
import { TokenTable } from "../../parts/tokens";
import { Sentence, Waiting } from "../../parts/waiting";

type Role = M["AccountLine"]["role"];
const ROLES: [Role, string][] = [
  ["analyst", "can send, decide and change settings"],
  ["writer", "can write, preview and send tests"],
  ["observer", "can read everything and export consent records"],
];

/** Everyone who works here: invite, role, second factor, sessions, removal; or everybody's tokens. */
export function AccountsSection({ tokens }: { tokens: boolean }) {
  const { moment } = useTimes();
  const { run: act, error } = useAction(keys.accounts());
  const client = useQueryClient();
  const [link, setLink] = useState<M["AccountLink"] | null>(null);
  const q = useQuery({ queryKey: keys.accounts(), queryFn: () => get("/accounts") });
  if (!q.data) return <Waiting error={q.error} what="the accounts" />;
  if (tokens)
    return (
      <>
        <h2 className="mb-1">Tokens</h2>
        <p className="mb-2 text-ink-2">People create their own tokens on their account page.</p>
        <TokenTable of={q.data.tokens} owner end={(id) => act(() => remove(`/tokens/${id}`))} />
        <Sentence error={error} />
      </>
    );
  return (
    <>
      <h2 className="mb-1">Accounts</h2>
      <Table label="Accounts">
        <thead>
          <tr>
            <th scope="col">Name</th>
            <th scope="col">Role</th>
            <th scope="col" className="whitespace-nowrap">
              Two-factor
            </th>
            <th scope="col">
              <span className="sr-only">Actions</span>
            </th>
          </tr>
        </thead>
        <tbody>
          {q.data.accounts.map((a) => (
            <tr key={a.id}>
              <td className="max-w-[190px]">
                <span className="block truncate" title={a.name}>
                  {a.name}
                </span>
                {a.email && (
                  <span className="block truncate text-small text-ink-2" title={a.email}>
                    {a.email}
                  </span>
                )}
                <span className="block text-small text-ink-2">
                  {a.seen_at ? `last seen ${moment(a.seen_at)}` : "no session"}
                  {a.sessions > 1 && `, ${count(a.sessions)} sessions`}
                </span>
              </td>
              <td>
                <select
                  className="field w-[112px]!"
                  aria-label={`Role of ${a.name}`}
                  value={a.role}
                  onChange={(e) => {
                    const role = e.target.value as Role; // the choice, also when it is tried again after the password
                    act(() => put(`/accounts/${a.id}/role`, { role }));
                  }}
                >
                  {ROLES.map(([r]) => (
                    <option key={r}>{r}</option>
                  ))}
                </select>
              </td>
              <td>{a.invited ? "invited, no password yet" : a.second_factor ? "on" : "none"}</td>
              <td className="n">
                <span className="flex flex-wrap justify-end gap-x-2">
                  {a.sessions > 0 && (
                    <button
                      type="button"
                      className="btn btn-bare"
                      onClick={() => act(() => remove(`/accounts/${a.id}/sessions`))}
                    >
                      Sign out
                    </button>
                  )}
                  {a.second_factor && (
                    <button
                      type="button"
                      className="btn btn-bare"
                      onClick={() => act(() => remove(`/accounts/${a.id}/second-factor`))}
                    >
                      Reset two-factor
                    </button>
                  )}
                  <button
                    type="button"
                    className="btn btn-bare"
                    onClick={() => act(async () => setLink(await post(`/accounts/${a.id}/link`)))}
                  >
                    Password link
                  </button>
                  <Ask
                    trigger={
                      <button type="button" className="btn btn-bare text-poppy!">
                        Remove
                      </button>
                    }
                    title={`Remove the account ${a.name}?`}
                    words="Remove account"
                    grave
                    act={async () => {
                      await remove(`/accounts/${a.id}`);
                      await client.invalidateQueries({ queryKey: keys.accounts() });
                    }}
                  >
                    <p>Its sessions and tokens end now. Its entries in the activity log stay.</p>
                  </Ask>
                </span>
              </td>
            </tr>
          ))}
        </tbody>
      </Table>
      <Sentence error={error} />
      {link && (
        <div role="status" className="mt-3">
          <p>Send this link to the person. It works once, for {link.holds_days} days, and is not shown again.</p>
          <p className="code mt-1">{link.url}</p>
        </div>
      )}
      <Form
        className="mt-6"
        act={(form) => {
          const f = new FormData(form);
          act(async () => {
            const body = { name: String(f.get("name")), role: f.get("role") as Role, email: String(f.get("email")) };
            setLink(await post("/accounts", body));
            form.reset();
          });
        }}
      >
        <h2 className="mb-1">Invite a person</h2>
        <p className="mb-2 text-ink-2">You get a link to pass on. They choose their own password.</p>
        <div className="flex flex-wrap items-end gap-3">
          <label>
            <span className="label">Sign-in name</span>
            <input className="field w-[180px]!" name="name" maxLength={100} required />
          </label>
          <label>
            <span className="label">Email, for test messages</span>
            <input className="field w-[220px]!" name="email" type="email" />
          </label>
          <label>
            <span className="label">Role</span>
            <select className="field w-[270px]!" name="role" defaultValue="writer">
              {ROLES.map(([r, does]) => (
                <option key={r} value={r}>
                  {r}: {does}
                </option>
              ))}
            </select>
          </label>
          <button type="submit" className="btn">
            Create invitation
          </button>
        </div>
      </Form>
    </>
  );
}
