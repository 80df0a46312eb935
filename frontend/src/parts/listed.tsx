import { type ReactNode, useMemo } from "react";
import { count } from "../logic/format";
import { hasWords, inOrder, type Value } from "../logic/listed";
import { useAddress, useTyped } from "./address";

interface Ways<T> {
  /** the things, in the plural: what the field and the empty list say */
  things: string;
  /** what a search looks at */
  text: (item: T) => string;
  /** by the name of a column what it is sorted by */
  columns: Record<string, (item: T) => Value>;
  /** by its words what a choice leaves; the first is chosen until another is */
  filters?: Record<string, (item: T) => boolean>;
}

const FEW = 4; // things from which on it is worth searching

/** A list that can be searched, filtered and sorted; how it is looked at stands in the address, so that a reload keeps it. */
export function useListed<T>(items: readonly T[], ways: Ways<T>) {
  const address = useAddress();
  const { params, set } = address;
  const filters = Object.keys(ways.filters ?? {});
  const [text, type] = useTyped(address, "text", 180);
  const sort = params.get("sort") ?? "";
  const show = params.get("show") ?? filters[0] ?? "";
  // biome-ignore lint/correctness/useExhaustiveDependencies: the ways are of the list, which does not change
  const shown = useMemo(() => {
    const leaves = ways.filters?.[show];
    const found = items.filter((item) => (!leaves || leaves(item)) && hasWords(ways.text(item), text.trim()));
    const value = ways.columns[sort.replace("-", "")];
    return value ? inOrder(found, value, sort.startsWith("-")) : found;
  }, [items, text, sort, show]);
  const tools: ReactNode = items.length >= FEW && (
    <div className="mb-2 flex flex-wrap items-center gap-2">
      <input
        type="search"
        className="field w-[230px]"
        placeholder={`Search ${ways.things}`}
        aria-label={`Search ${ways.things}`}
        value={text}
        onChange={(e) => type(e.target.value)}
      />
      {filters.length > 1 && (
        <select
          className="field w-[150px]"
          aria-label={`Which ${ways.things}`}
          value={show}
          onChange={(e) => set("show", e.target.value === filters[0] ? "" : e.target.value)}
        >
          {filters.map((words) => (
            <option key={words}>{words}</option>
          ))}
        </select>
      )}
      <span className="text-ink-2 text-small" aria-live="polite">
        {shown.length < items.length ? `${count(shown.length)} of ${count(items.length)}` : count(items.length)}{" "}
        {ways.things}
      </span>
    </div>
  );
  /** A heading that sorts: once the one way (numbers from the largest), again the other, a third time as it was. */
  const head = (column: string, words: string, { n = false, title, className = "" }: HeadWays = {}) => {
    const first = n ? `-${column}` : column;
    const second = n ? column : `-${column}`;
    const now = sort.replace("-", "") === column ? (sort.startsWith("-") ? "descending" : "ascending") : "none";
    return (
      <th scope="col" className={`${n ? "n" : ""} ${className}`.trim()} title={title} aria-sort={now}>
        <button
          type="button"
          className="hover:underline"
          onClick={() => set("sort", sort === first ? second : sort === second ? "" : first)}
        >
          {words}
          <span aria-hidden="true">{now === "none" ? "" : now === "ascending" ? " ↑" : " ↓"}</span>
        </button>
      </th>
    );
  };
  return { shown, tools, head };
}

interface HeadWays {
  n?: boolean;
  title?: string;
  className?: string;
}
