import type { M } from "../api/client";
import { Table } from "./table";
import { useTimes } from "./times";

export const SCOPES: [M["AccountToken"]["scope"], string][] = [
  ["read", "read only"],
  ["events", "send events"],
  ["all", "everything you can do"],
];

/** Tokens for scripts: what each is for, what it may do, when it was used last. */
export function TokenTable({
  of,
  end,
  owner,
}: {
  of: M["AccountToken"][];
  end: (id: number) => void;
  owner?: boolean;
}) {
  const { moment } = useTimes();
  if (!of.length) return <p className="text-ink-2">No tokens yet.</p>;
  return (
    <Table label="Tokens">
      <thead>
        <tr>
          <th scope="col">Name</th>
          {owner && <th scope="col">Account</th>}
          <th scope="col">Scope</th>
          <th scope="col">Created</th>
          <th scope="col">Expires</th>
          <th scope="col">Last used</th>
          <th scope="col">
            <span className="sr-only">Actions</span>
          </th>
        </tr>
      </thead>
      <tbody>
        {of.map((t) => (
          <tr key={t.id}>
            <td className="[overflow-wrap:anywhere]">{t.name}</td>
            {owner && <td>{t.user}</td>}
            <td>{SCOPES.find(([s]) => s === t.scope)?.[1]}</td>
            <td className="text-ink-2">{moment(t.made_at)}</td>
            <td className="text-ink-2">{t.expires_at ? moment(t.expires_at) : "never"}</td>
            <td className="text-ink-2">{t.used_at ? moment(t.used_at) : "never"}</td>
            <td className="n">
              <button type="button" className="btn btn-bare text-poppy!" onClick={() => end(t.id)}>
                Revoke
              </button>
            </td>
          </tr>
        ))}
      </tbody>
    </Table>
  );
}
