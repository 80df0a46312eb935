import { useState } from "react";
import { Link } from "react-router";
import { get, type M } from "../../api/client";
import { useAction } from "../../parts/action";
import { Form } from "../../parts/form";
import { Sentence } from "../../parts/waiting";

/** Why one address will not get this campaign: every reason that applies. */
export function WhyNot({ id }: { id: number }) {
  const [email, setEmail] = useState("");
  const [found, setFound] = useState<M["WhyNot"] | null>(null);
  const { run, error } = useAction();
  return (
    <Form
      className="mt-5 print:hidden"
      act={async () => {
        setFound(null);
        await run(async () => {
          setFound(await get(`/campaigns/${id}/why-not?email=${encodeURIComponent(email.trim())}`));
        });
      }}
    >
      <h2 className="mb-1">Check a subscriber</h2>
      <div className="flex gap-2">
        <input
          className="field"
          type="email"
          aria-label="Address to check"
          placeholder="an address"
          value={email}
          onChange={(e) => setEmail(e.target.value)}
        />
        <button type="submit" className="btn" disabled={!email.trim()}>
          Check
        </button>
      </div>
      <Sentence error={error} />
      {found && (
        <p role="status" className={`mt-2 ${found.permitted ? "text-clover" : ""}`}>
          {found.deliveries.length > 0 && <span className="block text-ink">{found.deliveries.join("; ")}.</span>}
          {found.permitted ? "They would receive it." : `They would not receive it: ${found.reasons.join("; ")}.`}{" "}
          <Link className="text-cornflower underline" to={`/subscribers/${found.subscriber}`}>
            Open subscriber
          </Link>
        </p>
      )}
    </Form>
  );
}
