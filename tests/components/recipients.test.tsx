// @vitest-environment jsdom
import { screen, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { describe, expect, test, vi } from "vitest";
import type { M } from "../../frontend/src/api/client";
import { RecipientsPage } from "../../frontend/src/places/campaigns/recipients";
import { draft, show } from "./server";

const segment = (id: number, name: string) => ({ id, name, rule: "in list “News”", count: 10 * id });
const finds = [{ kind: "subscriber", id: 7, name: "Mira Harrow", detail: "mira@harrow.example" }];
const ANSWERS = {
  "GET /segments": { segments: [segment(1, "Engaged"), segment(2, "Regulars")] },
  "GET /search": { finds },
};

function chosen(
  values: Partial<M["Campaign"]>,
  refuse = "",
  role: M["Me"]["role"] = "analyst",
  until = Promise.resolve(),
) {
  const kept: M["CampaignIn"][] = [];
  const write = async (v: M["CampaignIn"]) => {
    await until;
    if (refuse) throw new Error(refuse);
    kept.push(v);
  };
  const page = (
    <RecipientsPage
      c={draft(values)}
      head={{ title: "", tag: "", tabs: "" }}
      write={write}
      set={() => undefined}
      acts=""
      data={undefined}
      error={null}
    />
  );
  return { kept, ...show(page, { ...ANSWERS, "PUT /campaigns/7/people": draft(values) }, role) };
}

const box = (side: "Send to" | "Leave out") => screen.findByRole("combobox", { name: side });
async function take(side: "Send to" | "Leave out", typed: string) {
  await userEvent.type(await box(side), `${typed}{Enter}`);
}

describe("who a draft goes to", () => {
  test.each([
    ["Send to", "regu", { segments_in: [1, 2] }],
    ["Leave out", "regu", { segments_out: [2] }],
    ["Leave out", "enga", { segments_in: [], segments_out: [1] }],
  ] as const)("%s %s, and never on both sides", async (side, typed, values) => {
    const { kept } = chosen({ segments_in: [1] });
    await take(side, typed);
    expect(kept).toEqual([values]);
  });
  test("a list like a segment, taken away again by its chip", async () => {
    const { kept } = chosen({ lists: [{ words: "News", count: 3 }], lists_in: ["News"] });
    await userEvent.click(await screen.findByRole("button", { name: "Remove List News from send to" }));
    expect(kept).toEqual([{ lists_in: [] }]);
  });
  test("a person found by name", async () => {
    const { written } = chosen({});
    await userEvent.type(await box("Leave out"), "harrow");
    await userEvent.click(await screen.findByRole("option", { name: /mira@harrow.example/ }));
    expect(written).toEqual([{ what: "PUT /campaigns/7/people", body: { email: "mira@harrow.example", side: "out" } }]);
  });
  test("two choices that come fast both count", async () => {
    let answer = () => {};
    const until = new Promise<void>((done) => {
      answer = done;
    });
    const { kept } = chosen({ segments_in: [] }, "", "analyst", until);
    await take("Send to", "enga");
    await take("Send to", "regu");
    answer();
    await vi.waitFor(() => expect(kept.at(-1)).toEqual({ segments_in: [1, 2] }), 10_000);
  }, 20_000);
  test("what is refused says why", async () => {
    chosen({}, "Somebody else has changed this campaign.");
    await take("Send to", "regu");
    await screen.findByText("Somebody else has changed this campaign.");
  });
  test.each([
    [{ state: "sending" }, "analyst"],
    [{}, "observer"],
  ] as const)("%j seen by an %s cannot be changed", async (values, role) => {
    chosen({ ...values, segments_in: [1] }, "", role);
    expect((await box("Send to")).matches(":disabled")).toBe(true);
    const remove = within(document.body).queryByRole("button", { name: /Remove Engaged/ });
    expect(remove === null || remove.matches(":disabled")).toBe(true);
  });
});
