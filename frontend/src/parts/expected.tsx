import type { M } from "../api/client";
import { count, people, share } from "../logic/format";
import { Table } from "./table";

/** "3,050 to 3,420", a 95% interval in whole people. */
export const range = (low: number, high: number): string =>
  Math.round(low) === Math.round(high)
    ? count(Math.round(high))
    : `${count(Math.round(low))} to ${count(Math.round(high))}`;

/** What a send is expected to bring, before it starts. */
export function Expected({ of }: { of: M["Expectation"] }) {
  if (!of.people) return null;
  return (
    <>
      <h2 className="mt-5 mb-1">Expected engagement</h2>
      <p>
        <b>{range(of.low, of.high)}</b> people ({share(of.expected, of.people, 0)})
      </p>
      <p className="text-small text-ink-2">
        From each person's chance to engage{" "}
        {of.mailings >= 5 ? `and your last ${of.mailings} mailings` : "; too few mailings to know your usual spread"}.
        19 of 20 mailings should fall within this range.
      </p>
    </>
  );
}

/** The same for each group of people. */
export function ExpectedBy({ title, of }: { title: string; of: M["NamedExpectation"][] }) {
  return (
    <Table label={`Expected engagement ${title}`} className="mt-2">
      <thead>
        <tr>
          <th scope="col">{title[0]?.toUpperCase() + title.slice(1)}</th>
          <th scope="col" className="n">
            People
          </th>
          <th scope="col" className="n">
            Expected
          </th>
        </tr>
      </thead>
      <tbody>
        {of.map((e) => (
          <tr key={e.name}>
            <td>{e.name}</td>
            <td className="n">{count(e.people)}</td>
            <td className="n whitespace-nowrap">{range(e.low, e.high)}</td>
          </tr>
        ))}
      </tbody>
    </Table>
  );
}

/** Observed beside expected, in a sentence: while it comes in, and once nearly all has come. */
export function ObservedWords({ of }: { of: M["Observed"] }) {
  if (of.ratio === null) return null;
  const off = Math.round(100 * Math.abs(of.ratio - 1));
  const side = of.ratio >= 1 ? "above" : "below";
  const usual = `${off}% ${side} what these people usually do`;
  return (
    <p className="mt-3">
      <b>{people(of.observed)}</b> engaged; <b>{range(of.low, of.high)}</b>{" "}
      {of.complete ? "expected" : "expected by now"}.{" "}
      <span className={of.unusual && of.ratio < 1 ? "text-poppy" : "text-ink-2"}>
        {of.unusual ? `${usual}.` : off ? `${usual}, within the usual range.` : "As these people usually do."}
        {!of.complete && ` ${count(Math.round(of.expected_in_all))} expected in all.`}
      </span>
    </p>
  );
}
