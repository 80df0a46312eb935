// @vitest-environment jsdom
import { fireEvent, screen, waitFor, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { useState } from "react";
import { describe, expect, test } from "vitest";
import { post } from "../../frontend/src/api/client";
import { freshOf, type Names, SHAPES, type Tree, textOf } from "../../frontend/src/logic/clauses";
import { Ask } from "../../frontend/src/parts/ask";
import { RuleField } from "../../frontend/src/parts/rule-field";
import { ClauseRows } from "../../frontend/src/places/segments/clause-rows";
import { Refused, show } from "./server";

const NAMES: Names = { list: [{ name: "News", people: 40 }], label: [{ name: "VIP", people: 2 }] };

function rows(tree: Tree, people = 100) {
  const said: string[] = [];
  const parts = (tree.parts as Tree[] | undefined) ?? [tree];
  show(
    <ClauseRows
      tree={tree}
      breakdown={
        [
          { words: "everyone", remaining: people },
          ...parts.map(() => ({ words: "", remaining: 10, removed_only_by_this: 1 })),
        ] as never
      }
      people={people}
      off={new Set()}
      setOff={() => undefined}
      set={(rule) => said.push(rule)}
      names={NAMES}
      stale={false}
    />,
    { "GET /subscribers/fields": { fields: [] } },
  );
  return said;
}

describe("a rule as rows", () => {
  const SOME = SHAPES.filter((s) => s.group !== "Field")
    .slice(0, 3)
    .map((s) => freshOf(s, NAMES));
  const [first, second, third] = SOME as [Tree, Tree, Tree];
  test("removing a condition leaves the others, in their order", async () => {
    const said = rows({ clause: "and", parts: [first, second, third] });
    await userEvent.click(screen.getByRole("button", { name: `Remove ${textOf(second)}` }));
    expect(said).toEqual([`${textOf(first)} and ${textOf(third)}`]);
  });
  test("not is put before one condition and taken away again", async () => {
    const said = rows({ clause: "and", parts: [first, { clause: "not", part: second }] });
    const [before, after] = screen.getAllByRole("button", { name: "not" });
    await userEvent.click(before as HTMLElement);
    await userEvent.click(after as HTMLElement);
    expect(said).toEqual([
      `not (${textOf(first)}) and not (${textOf(second)})`,
      `${textOf(first)} and ${textOf(second)}`,
    ]);
  });
  test("a group within stays a group when one of its conditions goes", async () => {
    const said = rows({ clause: "and", parts: [first, { clause: "or", parts: [first, second, third] }] });
    const group = screen.getByRole("group", { name: "A group of conditions" });
    await userEvent.click(within(group).getByRole("button", { name: `Remove ${textOf(third)}` }));
    expect(said).toEqual([`${textOf(first)} and (${textOf(first)} or ${textOf(second)})`]);
  });
  test.each(SHAPES.map((s) => [textOf(freshOf(s, NAMES)), s] as const))("%s has a row", (_, shape) => {
    rows({ clause: "and", parts: [freshOf(shape, NAMES), first] });
    expect(screen.getAllByRole("row")).toHaveLength(5);
  });
});

describe("a rule as text", () => {
  function Typed({ start }: { start: string }) {
    const [value, set] = useState(start);
    return <RuleField value={value} set={set} names={NAMES} label="Rule" placeholder="everyone" />;
  }
  const field = () => screen.getByRole("combobox", { name: "Rule" }) as HTMLInputElement;
  test("a name is offered to all, moved to by arrows and accepted by Tab", async () => {
    show(<Typed start="" />, { "POST /segments/fits": new Refused("nothing fits") });
    await userEvent.type(field(), 'in list "Ne');
    const option = await screen.findByRole("option", { name: "News" });
    expect(field().getAttribute("aria-expanded")).toBe("true");
    expect(field().getAttribute("aria-activedescendant")).toBe(option.id);
    screen.getByText("1 suggestion");
    await userEvent.keyboard("{ArrowDown}{Tab}");
    expect(field().value).toBe('in list "News"');
  });
});

describe("asking before an act", () => {
  test("it stays open where the act fails, says why, and closes when it goes well", async () => {
    let times = 0;
    const { written } = show(
      <Ask
        trigger={<button type="button">Stop…</button>}
        title="Stop?"
        words="Stop"
        act={() => post("/outgoing/stop" as "/sign-out")}
      >
        All of it.
      </Ask>,
      { "POST /outgoing/stop": () => (times++ ? {} : new Refused("Not now.")) },
    );
    await userEvent.click(screen.getByRole("button", { name: "Stop…" }));
    await userEvent.click(screen.getByRole("button", { name: "Stop" }));
    await screen.findByText("Not now.");
    await userEvent.click(screen.getByRole("button", { name: "Stop" }));
    await waitFor(() => expect(screen.queryByRole("dialog")).toBeNull());
    expect(written).toHaveLength(2);
  });
  test("where the password is wanted once more, the act is tried again after it", async () => {
    let proved = false;
    const { written } = show(
      <Ask
        trigger={<button type="button">Remove…</button>}
        title="Remove?"
        words="Remove"
        act={() => post("/sign-out")}
      >
        It.
      </Ask>,
      {
        "POST /sign-out": () => (proved ? {} : new Refused("Your password, please.", 403, ["password"])),
        "POST /me/prove": () => {
          proved = true;
          return {};
        },
      },
    );
    await userEvent.click(screen.getByRole("button", { name: "Remove…" }));
    await userEvent.click(screen.getByRole("button", { name: "Remove" }));
    fireEvent.change(await screen.findByLabelText("Password"), { target: { value: "evenings by the water" } });
    await userEvent.click(screen.getByRole("button", { name: "Confirm" }));
    await waitFor(() => expect(screen.queryByRole("dialog")).toBeNull());
    expect(written.map((w) => w.what)).toEqual(["POST /sign-out", "POST /me/prove", "POST /sign-out"]);
  });
});
