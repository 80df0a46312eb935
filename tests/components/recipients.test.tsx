// @vitest-environment jsdom
import { screen } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { describe, expect, test } from "vitest";
import type { M } from "../../frontend/src/api/client";
import { RecipientsPage } from "../../frontend/src/places/campaigns/recipients";
import { draft, show } from "./server";

const segment = (id: number, name: string) => ({ id, name, rule: "in list “News”", count: 10 * id });
const ANSWERS = { "GET /segments": { segments: [segment(1, "Engaged"), segment(2, "Regulars")] } };

function chosen(values: Partial<M["Campaign"]>, refuse = "", role: M["Me"]["role"] = "analyst") {
  const kept: M["CampaignIn"][] = [];
  const write = async (v: M["CampaignIn"]) => {
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
  return { kept, ...show(page, ANSWERS, role) };
}

describe("who a draft goes to", () => {
  test.each([
    ["Engaged", "Exclude", { segments_in: [], segments_out: [1] }],
    ["Engaged", "–", { segments_in: [], segments_out: [] }],
    ["Regulars", "Include", { segments_in: [1, 2], segments_out: [] }],
    ["Regulars", "Exclude", { segments_in: [1], segments_out: [2] }],
  ])("%s: %s, and never on both sides", async (name, side, values) => {
    const { kept } = chosen({});
    await userEvent.selectOptions(await screen.findByLabelText(`${name} in this campaign`), side);
    expect(kept).toEqual([values]);
  });
  test("a list like a segment", async () => {
    const { kept } = chosen({ lists: [{ words: "News", count: 3 }], lists_in: ["News"] });
    await userEvent.selectOptions(await screen.findByLabelText("List News in this campaign"), "Exclude");
    expect(kept).toEqual([{ lists_in: [], lists_out: ["News"] }]);
  });
  test("what is refused says why", async () => {
    chosen({}, "Somebody else has changed this campaign.");
    await userEvent.selectOptions(await screen.findByLabelText("Regulars in this campaign"), "Include");
    await screen.findByText("Somebody else has changed this campaign.");
  });
  test.each([
    [{ state: "sending" }, "analyst"],
    [{}, "observer"],
  ] as const)("%j seen by an %s cannot be changed", async (values, role) => {
    chosen(values, "", role);
    expect((await screen.findByLabelText("Engaged in this campaign")).matches(":disabled")).toBe(true);
  });
});
