import { useQuery } from "@tanstack/react-query";
import { type ReactNode, useState } from "react";
import { get, type M, post, put, remove } from "../api/client";
import { keys } from "../api/keys";
import { useAction } from "../parts/action";
import { Form } from "../parts/form";
import { useMe } from "../parts/me";
import { Page } from "../parts/page";
import { Table } from "../parts/table";
import { useTimes } from "../parts/times";
import { SCOPES, TokenTable } from "../parts/tokens";
import { Sentence, Waiting } from "../parts/waiting";

type Act = (f: () => Promise<unknown>) => Promise<boolean>;

/** One's own account: password, second factor, sessions, tokens for scripts. */
export function Account() {
  const me = useMe();
  const { run: act, error } = useAction(keys.me());
  const mine = useQuery({ queryKey: keys.account(), queryFn: () => get("/me/account") });
  return (
    <Page
      title={me.name}
      lead={`${me.role} of ${me.workspace}`}
      acts={
        <button
          type="button"
          className="btn"
          onClick={() =>
            act(async () => {
              await post("/sign-out");
              location.assign("/sign-in");
            })
          }
        >
          Sign out
        </button>
      }
    >
      <div className="max-w-[760px]">
        <Sentence error={error} />
        <SecondFactor act={act} />
        <Password act={act} />
        {mine.data ? (
          <>
            <Sessions of={mine.data.sessions} act={act} />
            <Tokens of={mine.data.tokens} act={act} />
          </>
        ) : (
          <Waiting error={mine.error} what="your sessions" />
        )}
      </div>
    </Page>
  );
}

function Part({ title, children }: { title: string; children: ReactNode }) {
  return (
    <section className="mt-6 first:mt-2">
      <h2 className="mb-1">{title}</h2>
      {children}
    </section>
  );
}

function SecondFactor({ act }: { act: Act }) {
  const me = useMe();
  const [factor, setFactor] = useState<M["SecondFactor"] | null>(null);
  const [codes, setCodes] = useState<string[]>([]);
  if (codes.length)
    return (
      <Part title="Second factor">
        <p className="text-ink-2">
          Set up. Store these recovery codes in a safe place: each signs you in once instead of a code. They are not
          shown again.
        </p>
        <p className="code mt-2 columns-2">{codes.join("\n")}</p>
        <button type="button" className="btn mt-2" onClick={() => setCodes([])}>
          I have saved them
        </button>
      </Part>
    );
  if (me.second_factor)
    return (
      <Part title="Second factor">
        <p className="text-ink-2">
          On: a code from your authenticator app is required at sign-in. {me.recovery_codes} of 10 recovery codes are
          left.{" "}
          <button type="button" className="btn btn-bare" onClick={() => act(() => remove("/me/second-factor"))}>
            Turn off two-factor authentication
          </button>
        </p>
      </Part>
    );
  if (!factor)
    return (
      <Part title="Second factor">
        <p className="text-ink-2">
          Off.{" "}
          <button
            type="button"
            className="btn btn-bare"
            onClick={() => act(async () => setFactor(await post("/me/second-factor")))}
          >
            Set up two-factor authentication
          </button>
        </p>
      </Part>
    );
  return (
    <Part title="Second factor">
      <Form
        act={(form) => {
          const code = String(new FormData(form).get("code"));
          act(async () => {
            const kept = await put("/me/second-factor", { secret: factor.secret, code });
            setCodes(kept.codes);
            setFactor(null);
          });
        }}
      >
        <p className="mb-2 text-ink-2">Add this key to your authenticator app, then enter the code it shows.</p>
        <p className="code mb-3">{factor.secret}</p>
        <div className="flex gap-2">
          <input className="field w-40!" name="code" inputMode="numeric" aria-label="Code" required />
          <button type="submit" className="btn btn-main">
            Turn on
          </button>
        </div>
      </Form>
    </Part>
  );
}

function Password({ act }: { act: Act }) {
  const [said, setSaid] = useState("");
  return (
    <Part title="Password">
      <Form
        className="flex flex-wrap items-end gap-2"
        act={(form) => {
          const password = String(new FormData(form).get("new"));
          setSaid("");
          act(async () => {
            await put("/me/password", { password });
            form.reset();
            setSaid("Saved; your other sessions have ended.");
          });
        }}
      >
        <label>
          <span className="label">New password, at least 10 characters</span>
          <input
            className="field w-[260px]!"
            name="new"
            type="password"
            autoComplete="new-password"
            minLength={10}
            required
          />
        </label>
        <button type="submit" className="btn">
          Set password
        </button>
        {said && (
          <span role="status" className="pb-1.5 text-clover">
            {said}
          </span>
        )}
      </Form>
    </Part>
  );
}

function Sessions({ of, act }: { of: M["AccountSession"][]; act: Act }) {
  const { moment } = useTimes();
  return (
    <Part title="Sessions">
      <p className="text-ink-2">A session ends after 12 hours without use, and after 30 days at the latest.</p>
      <Table label="Sessions" className="mt-1">
        <thead>
          <tr>
            <th scope="col">Browser</th>
            <th scope="col">Network</th>
            <th scope="col">Started</th>
            <th scope="col">Last seen</th>
            <th scope="col">
              <span className="sr-only">Actions</span>
            </th>
          </tr>
        </thead>
        <tbody>
          {of.map((s) => (
            <tr key={s.mark}>
              <td className="max-w-[240px] truncate" title={s.agent}>
                {s.agent || "unknown"}
              </td>
              <td>{s.network}</td>
              <td className="whitespace-nowrap text-ink-2">{moment(s.made_at)}</td>
              <td className="whitespace-nowrap text-ink-2">{moment(s.seen_at)}</td>
              <td className="n">
                {s.current ? (
                  <span className="text-ink-2">this session</span>
                ) : (
                  <button
                    type="button"
                    className="btn btn-bare"
                    onClick={() => act(() => remove(`/me/sessions/${s.mark}`))}
                  >
                    End
                  </button>
                )}
              </td>
            </tr>
          ))}
        </tbody>
      </Table>
      {of.length > 1 && (
        <button type="button" className="btn mt-2" onClick={() => act(() => remove("/me/sessions"))}>
          End all other sessions
        </button>
      )}
    </Part>
  );
}

function Tokens({ of, act }: { of: M["AccountToken"][]; act: Act }) {
  const [token, setToken] = useState("");
  return (
    <Part title="Tokens for scripts">
      <p className="mb-1 text-ink-2">
        Send it as <span className="font-mono text-small">Authorization: Bearer …</span>
      </p>
      <TokenTable of={of} end={(id) => act(() => remove(`/me/tokens/${id}`))} />
      {token && (
        <div role="status" className="mt-3">
          <p>Copy it now; it is not shown again.</p>
          <p className="code mt-1">{token}</p>
        </div>
      )}
      <Form
        className="mt-3 flex flex-wrap items-end gap-2"
        act={(form) => {
          const f = new FormData(form);
          act(async () => {
            const days = Number(f.get("days")) || null;
            const body = { name: String(f.get("name")), scope: f.get("scope") as M["AccountToken"]["scope"], days };
            setToken((await post("/me/tokens", body)).token);
            form.reset();
          });
        }}
      >
        <label>
          <span className="label">What uses it</span>
          <input className="field w-[200px]!" name="name" maxLength={100} required />
        </label>
        <label>
          <span className="label">It may</span>
          <select className="field w-[190px]!" name="scope">
            {SCOPES.map(([s, words]) => (
              <option key={s} value={s}>
                {words}
              </option>
            ))}
          </select>
        </label>
        <label>
          <span className="label">Expires after</span>
          <select className="field w-[120px]!" name="days" defaultValue="365">
            <option value="30">30 days</option>
            <option value="365">a year</option>
            <option value="">never</option>
          </select>
        </label>
        <button type="submit" className="btn">
          Create token
        </button>
      </Form>
    </Part>
  );
}
