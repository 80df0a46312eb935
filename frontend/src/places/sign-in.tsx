import { useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { post } from "../api/client";
import { Sentence } from "../parts/basics";

export function SignIn() {
  const client = useQueryClient();
  const [error, setError] = useState<Error | null>(null);
  return (
    <main className="mx-auto mt-[16vh] w-[340px]">
      <h1 className="mb-1">Open Meadow</h1>
      <p className="mb-6 text-ink-2">Sign in to your workspace.</p>
      <form
        onSubmit={async (e) => {
          e.preventDefault();
          const f = new FormData(e.currentTarget);
          try {
            await post("/sign-in", {
              name: String(f.get("name")),
              password: String(f.get("password")),
              code: String(f.get("code") ?? ""),
            });
            await client.invalidateQueries({ queryKey: ["me"] });
          } catch (x) {
            setError(x as Error);
          }
        }}
      >
        <label className="mb-3 block">
          <span className="label">Name</span>
          <input className="field" name="name" autoComplete="username" required />
        </label>
        <label className="mb-3 block">
          <span className="label">Password</span>
          <input className="field" name="password" type="password" autoComplete="current-password" required />
        </label>
        <label className="mb-4 block">
          <span className="label">Code, if you use two-factor authentication</span>
          <input className="field" name="code" inputMode="numeric" autoComplete="one-time-code" />
        </label>
        <button type="submit" className="btn btn-main w-full">
          Sign in
        </button>
        <Sentence error={error} />
      </form>
    </main>
  );
}

/** Where the link of an invitation, or of a lost password, leads. */
export function SetPassword({ token }: { token: string }) {
  const [error, setError] = useState<Error | null>(null);
  return (
    <main className="mx-auto mt-[16vh] w-[340px] max-w-[92vw]">
      <h1 className="mb-1">Open Meadow</h1>
      <p className="mb-6 text-ink-2">Choose a password of at least 10 characters. You will be signed in right away.</p>
      <form
        onSubmit={async (e) => {
          e.preventDefault();
          const f = new FormData(e.currentTarget);
          if (f.get("password") !== f.get("again"))
            return setError(new Error("The passwords do not match. Type them again."));
          try {
            await post("/set-password", { token, password: String(f.get("password")) });
            location.assign("/today");
          } catch (x) {
            setError(x as Error);
          }
        }}
      >
        <label className="mb-3 block">
          <span className="label">New password</span>
          <input
            className="field"
            name="password"
            type="password"
            autoComplete="new-password"
            minLength={10}
            required
          />
        </label>
        <label className="mb-4 block">
          <span className="label">Repeat the password</span>
          <input className="field" name="again" type="password" autoComplete="new-password" required />
        </label>
        <button type="submit" className="btn btn-main w-full">
          Set password
        </button>
        <Sentence error={error} />
      </form>
    </main>
  );
}
