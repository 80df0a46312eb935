import { useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { post } from "../api/client";
import { keys } from "../api/keys";
import { useAction } from "../parts/action";
import { Form } from "../parts/form";
import { Sentence } from "../parts/waiting";

export function SignIn() {
  const client = useQueryClient();
  const { run, error } = useAction();
  return (
    <main className="mx-auto mt-[16vh] w-[340px]">
      <h1 className="mb-1">Open Meadow</h1>
      <p className="mb-6 text-ink-2">Sign in to your workspace.</p>
      <Form
        act={async (form) => {
          const f = new FormData(form);
          await run(async () => {
            await post("/sign-in", {
              name: String(f.get("name")),
              password: String(f.get("password")),
              code: String(f.get("code") ?? ""),
            });
            await client.invalidateQueries({ queryKey: keys.me() });
          });
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
      </Form>
    </main>
  );
}

/** Where the link of an invitation, or of a lost password, leads. */
export function SetPassword({ token }: { token: string }) {
  const { run, error } = useAction();
  const [differs, setDiffers] = useState<Error | null>(null);
  return (
    <main className="mx-auto mt-[16vh] w-[340px] max-w-[92vw]">
      <h1 className="mb-1">Open Meadow</h1>
      <p className="mb-6 text-ink-2">Choose a password of at least 10 characters. You will be signed in right away.</p>
      <Form
        act={async (form) => {
          const f = new FormData(form);
          const same = f.get("password") === f.get("again");
          setDiffers(same ? null : new Error("The passwords do not match. Type them again."));
          if (!same) return;
          await run(async () => {
            await post("/set-password", { token, password: String(f.get("password")) });
            location.assign("/today");
          });
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
        <Sentence error={differs ?? error} />
      </Form>
    </main>
  );
}
