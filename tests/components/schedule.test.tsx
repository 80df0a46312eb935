// @vitest-environment jsdom
import { fireEvent, screen, waitFor } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { describe, expect, test } from "vitest";
import type { M } from "../../frontend/src/api/client";
import { PlanPage } from "../../frontend/src/places/campaigns/schedule";
import { draft, Refused, show } from "./server";

const EXPECTED = { people: 1000, expected: 310, low: 280, high: 340, mailings: 20 };
const ORDERS: M["Plan"]["order"][] = ["most engaged first", "at random", "by time zone"];
const ANSWERS = {
  "GET /status": { now: 1_773_308_520 },
  "GET /campaigns/7/schedule": {
    batches: [
      {
        n: 1,
        due_at: 1_773_312_120,
        people: 1000,
        pilot: false,
        again_at: null,
        note: "",
        bands: [1000, 0, 0, 0, 0, 0],
        expected: EXPECTED,
      },
    ],
    note: "",
    resend: "",
    best: null,
    usual_wait: 172_800,
    variants: ["A"],
    expected: EXPECTED,
    expected_by_band: [],
    expected_by_provider: [],
  },
  "GET /campaigns/7/recipients": {
    count: 1000,
    providers: [],
    exclusions: [],
    bands: [1000, 0, 0, 0, 0, 0],
    expected: EXPECTED,
    zones: [],
  },
  "GET /campaigns/7/checks": { checks: [] },
  "GET /providers": { providers: [] },
  "POST /campaigns/7/start": { batches: 1 },
};

function planned(answers: Record<string, unknown> = {}) {
  const kept: M["CampaignIn"][] = [];
  const write = async (values: M["CampaignIn"]) => {
    const answer = await fetch("/api/campaigns/7", { method: "PUT", body: JSON.stringify(values) });
    if (!answer.ok) throw new Error((await answer.json()).error);
    kept.push(values);
  };
  const page = (
    <PlanPage c={draft()} head={{ title: "", tag: "", tabs: "" }} write={write} set={() => undefined} acts="" />
  );
  return { kept, ...show(page, { ...ANSWERS, "PUT /campaigns/7": {}, ...answers }) };
}

const start = async () => {
  await userEvent.click(await screen.findByRole("button", { name: "Start…" }));
  await userEvent.click(await screen.findByRole("button", { name: "Start sending to 1,000 people" }));
};

describe("the plan of a draft", () => {
  test("what was changed just before the start is what starts", async () => {
    let pause: (() => void) | undefined;
    const held = new Promise<void>((done) => {
      pause = done;
    });
    const { written } = planned({ "PUT /campaigns/7": () => held.then(() => ({})) });
    fireEvent.change(await screen.findByLabelText(/^Then/), { target: { value: "4" } });
    await start();
    expect(written.map((w) => w.what)).toEqual(["PUT /campaigns/7"]); // and waits for it
    pause?.();
    await waitFor(() => expect(written.map((w) => w.what)).toEqual(["PUT /campaigns/7", "POST /campaigns/7/start"]));
    expect(written[0]?.body).toMatchObject({ plan: { batches: 4, pilot_share: 0.1 } });
  });
  test("nothing starts where the last change could not be saved", async () => {
    const { written } = planned({ "PUT /campaigns/7": new Refused("A plan ends before it starts.") });
    fireEvent.change(await screen.findByLabelText(/^Then/), { target: { value: "4" } });
    await start();
    await screen.findByText("Nothing was started: your last change of the plan was not saved.");
    screen.getByText("A plan ends before it starts.");
    expect(written.some((w) => w.what === "POST /campaigns/7/start")).toBe(false);
  });
  test("a change is kept when the page is left at once", async () => {
    const { kept, unmount } = planned();
    fireEvent.change(await screen.findByLabelText(/^every/), { target: { value: "2.5" } });
    unmount();
    await waitFor(() => expect(kept).toMatchObject([{ plan: { interval: 9000 } }]));
  });
  test("a share may be half a percent", async () => {
    const { kept, unmount } = planned();
    fireEvent.change(await screen.findByLabelText(/^Pilot batch/), { target: { value: "12.5" } });
    unmount();
    await waitFor(() => expect(kept).toMatchObject([{ plan: { pilot_share: 0.125 } }]));
  });
  test.each(["900", "0", ""])(
    "a number of batches of “%s” is said and not kept, and can be corrected",
    async (value) => {
      const { kept, unmount } = planned();
      const field = (await screen.findByLabelText(/^Then/)) as HTMLInputElement;
      const stood = field.value;
      fireEvent.change(field, { target: { value } });
      await screen.findByText(`1 to 100; ${stood} stands.`);
      expect([field.value, field.getAttribute("aria-invalid")]).toEqual([value, "true"]);
      fireEvent.change(field, { target: { value: "7" } });
      expect(screen.queryByText(/stands\./)).toBeNull();
      unmount();
      await waitFor(() => expect(kept).toMatchObject([{ plan: { batches: 7 } }]));
    },
  );
  test("each order that can be picked is one that the server knows", async () => {
    const { kept, unmount } = planned();
    const field = (await screen.findByLabelText("Order")) as HTMLSelectElement;
    expect([...field.options].map((o) => o.value)).toEqual(ORDERS);
    await userEvent.selectOptions(field, "random");
    unmount();
    await waitFor(() => expect(kept).toMatchObject([{ plan: { order: "at random" } }]));
  });
});
