import { count, share } from "../logic/format";
import { ProviderName } from "./provider";
import { Table } from "./table";

/** How people are spread over the mailbox providers, those with nobody left out. */
export function ByProvider({
  of,
  total,
  title = "By provider",
}: {
  of: { words: string; count: number }[];
  total: number;
  title?: string;
}) {
  return (
    <>
      <h2 className="mt-5 mb-1">{title}</h2>
      <Table label={title}>
        <tbody>
          {of
            .filter((p) => p.count)
            .map((p) => (
              <tr key={p.words}>
                <td>
                  <ProviderName name={p.words} />
                </td>
                <td className="n">{count(p.count)}</td>
                <td className="n w-16 text-ink-2">{share(p.count, total)}</td>
              </tr>
            ))}
        </tbody>
      </Table>
    </>
  );
}
