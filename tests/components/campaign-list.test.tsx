// @vitest-environment jsdom
import { screen, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { describe, expect, test } from "vitest";
import { CampaignList } from "../../frontend/src/places/campaigns/list";
import { show } from "./server";

const line = (id: number, name: string, state: string, more: object = {}) => ({
  ...{ id, name, state, kind: "campaign", subject: "", purpose: "News", people: 100, delivered: 100, opened: 10 * id },
  ...{ clicked: id, engaged: null, expected: null, made_at: 1, started_at: 1, archived: false, ...more },
});
const CAMPAIGNS = [
  line(1, "Harbour nights", "finished", { engaged: 27, expected: 25 }),
  line(2, "Box office notes", "draft", { delivered: 0 }),
  line(3, "Spring season", "sending"),
  line(4, "Last year", "stopped", { archived: true, engaged: 20, expected: 25 }),
];
const names = () =>
  screen
    .getAllByRole("row")
    .slice(1)
    .map((r) => within(r).getByRole("link").textContent);

describe("the list of campaigns", () => {
  const answers = { "GET /campaigns": { campaigns: CAMPAIGNS }, "GET /templates": { templates: [] } };
  test("is filtered, searched and sorted, and says what came of what was expected", async () => {
    show(<CampaignList />, answers);
    await screen.findByRole("link", { name: "Harbour nights" });
    expect(names()).toEqual(["Harbour nights", "Box office notes", "Spring season"]);
    expect(screen.getByText("108%").closest("td")?.title).toBe("27 engaged, 25 expected");
    await userEvent.click(screen.getByRole("button", { name: "Opens (human)" }));
    expect(names()).toEqual(["Spring season", "Harbour nights", "Box office notes"]);
    await userEvent.selectOptions(screen.getByLabelText("Which campaigns"), "all");
    await userEvent.type(screen.getByLabelText("Search campaigns"), "year");
    expect(names()).toEqual(["Last year"]);
    expect(screen.getByText(/1 of 4/)).toBeTruthy();
  });
  test("puts away what has ended and deletes drafts, once asked", async () => {
    const done = { ...answers, "POST /campaigns/1/archive": {}, "DELETE /campaigns/2": {} };
    const { written } = show(<CampaignList />, done);
    await userEvent.click(await screen.findByRole("button", { name: "Archive" }));
    await userEvent.click(screen.getByRole("button", { name: "Delete" }));
    expect(screen.queryByRole("button", { name: "Restore" })).toBeNull();
    await userEvent.click(screen.getByRole("button", { name: "Delete draft" }));
    expect(written.map((w) => w.what)).toEqual(["POST /campaigns/1/archive", "DELETE /campaigns/2"]);
  });
});
