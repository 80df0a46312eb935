import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { get, type M, post, put, remove } from "../api/client";
import { count, moment } from "../logic/format";
import { Page, Sentence } from "../parts/basics";
import { useMe } from "../parts/me";
import { TakeBack } from "../parts/take-back";

/** One's own account: second factor, token for scripts, sign out. */
export function Account() {
  const me = useMe();
  const client = useQueryClient();
  const [factor, setFactor] = useState<M["SecondFactor"] | null>(null);
  const [token, setToken] = useState("");
  const [error, setError] = useState<Error | null>(null);
  const log = useQuery({ queryKey: ["activity"], queryFn: () => get<M["Deeds"]>("/activity") });
  const again = () => client.invalidateQueries({ queryKey: ["me"] });
  const attempt = (act: () => Promise<unknown>) => async () => {
    setError(null);
    try {
      await act();
    } catch (e) {
      setError(e as Error);
    }
  };
  return (
    <Page
      title={me.name}
      lead={`${me.role} of ${me.workspace}`}
      acts={
        <button
          type="button"
          className="btn"
          onClick={attempt(async () => {
            await post("/sign-out");
            location.assign("/sign-in");
          })}
        >
          Sign out
        </button>
      }
    >
      <div className="max-w-[640px]">
        <h2 className="mt-4 mb-1">Second factor</h2>
        {me.second_factor ? (
          <p className="text-ink-2">
            An authenticator's code is asked at sign-in.{" "}
            <button
              type="button"
              className="btn btn-bare"
              onClick={attempt(async () => {
                await remove("/me/second-factor");
                await again();
              })}
            >
              Sign in without it from now on
            </button>
          </p>
        ) : factor ? (
          <form
            onSubmit={(e) => {
              e.preventDefault();
              const code = new FormData(e.currentTarget).get("code");
              attempt(async () => {
                await put("/me/second-factor", { secret: factor.secret, code });
                setFactor(null);
                await again();
              })();
            }}
          >
            <p className="mb-2 text-ink-2">Put this secret into your authenticator, then type the code it shows.</p>
            <p className="code mb-3">{factor.secret}</p>
            <div className="flex gap-2">
              <input className="field w-40" name="code" inputMode="numeric" aria-label="Code" required />
              <button type="submit" className="btn btn-main">
                Keep it
              </button>
            </div>
          </form>
        ) : (
          <p className="text-ink-2">
            Not set up.{" "}
            <button
              type="button"
              className="btn btn-bare"
              onClick={attempt(async () => setFactor(await post<M["SecondFactor"]>("/me/second-factor")))}
            >
              Set up an authenticator
            </button>
          </p>
        )}
        <h2 className="mt-6 mb-1">Token for scripts</h2>
        <p className="text-ink-2">
          A script sends it as <span className="font-mono text-[13px]">Authorization: Bearer …</span> and may do what
          you may. A new one ends the old one.
        </p>
        {token ? (
          <p className="code mt-2">{token}</p>
        ) : (
          <button
            type="button"
            className="btn mt-2"
            onClick={attempt(async () => setToken((await post<M["Token"]>("/me/token")).token))}
          >
            Make a token
          </button>
        )}
        <Sentence error={error} />
      </div>
      <h2 className="mt-8 mb-1">What was done here</h2>
      <table className="lined max-w-[900px]">
        <thead>
          <tr>
            <th>When</th>
            <th>Who</th>
            <th>Did</th>
            <th>What</th>
            <th className="n">People</th>
            <th>
              <span className="sr-only">Way back</span>
            </th>
          </tr>
        </thead>
        <tbody>
          {(log.data?.deeds ?? []).map((d) => (
            <tr key={d.id}>
              <td className="whitespace-nowrap text-ink-2">{moment(d.at)}</td>
              <td>{d.who}</td>
              <td>{d.act}</td>
              <td className="text-ink-2">{d.what}</td>
              <td className="n">{d.people ? count(d.people) : ""}</td>
              <td className="n w-[110px]">
                <TakeBack d={d} />
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </Page>
  );
}
