// @vitest-environment jsdom
import { screen, waitForElementToBeRemoved } from "@testing-library/react";
import { expect, test } from "vitest";
import { CleanUpPage } from "../../frontend/src/places/subscribers/sunset-policy";
import { show } from "./server";

const VIEW = {
  active: false,
  after_days: 180,
  tries: 2,
  wait_days: 14,
  ask_masked: true,
  automatic: false,
  sentence: "",
  purpose: "News",
  purposes: ["News"],
  groups: [],
  stopped: 0,
  protected: 0,
  patterns: [],
  ran_at: null,
  next_at: null,
  outcomes: {},
  as_of: 1_773_308_520,
};

test("what it saves is estimated first, with how far it may be off, and then known", async () => {
  let asked = 0;
  let replayed: (_: unknown) => void = () => undefined;
  const all = new Promise((resolve) => {
    replayed = resolve;
  });
  show(<CleanUpPage />, {
    "GET /status": { now: 1_773_308_520 },
    "GET /sunset-policy": () => {
      asked += 1;
      if (asked === 1) return { ...VIEW, saving: { messages: { beyond: 400, all: 8000 } }, saving_off: 0.031 };
      return all.then(() => ({ ...VIEW, saving: { messages: { beyond: 417, all: 8000 } }, saving_off: 0 }));
    },
  });
  expect((await screen.findByRole("status")).textContent).toContain("one person in eight (± 3.1%)");
  expect(screen.getByText("400")).toBeTruthy();
  replayed(null);
  await waitForElementToBeRemoved(() => screen.queryByText("400"));
  expect(screen.getByText("417")).toBeTruthy();
  expect(screen.queryByText(/one person in eight/)).toBeNull();
  expect(asked).toBe(2);
});
