import { describe, expect, test } from "vitest";
import { traceInWords } from "./bands";
import { freshOf, grouped, type Names, SHAPES, textOf, withPart } from "./clauses";
import { bend, beyond, byWord, columnAt, drawnOf, nearest, rectOf, rowAt, total, without } from "./cutoff";
import { ago, count, duration, points, share } from "./format";
import { hasWords, inOrder } from "./listed";
import { side, strips } from "./map";
import { ALL_MARKS, choiceOf, isMarked, mark, marked, NO_MARKS } from "./marks";
import { pastedFile } from "./pasted";
import { completions, nextWords, starters, withClause } from "./rules";
import { atShare, byKey, closed, type Slot, span, spread } from "./timeline";
import { timesIn } from "./times";

const known = (names: Record<string, string[]>): Names =>
  Object.fromEntries(Object.entries(names).map(([kind, of]) => [kind, of.map((name) => ({ name, people: 1 }))]));

const UTC = timesIn("UTC");
const NOW = 1_773_308_520; // Thu 12 Mar 2026, 09:42 UTC

describe("figures", () => {
  test.each([
    [0, "0"],
    [1234567, "1,234,567"],
    [-41, "−41"],
  ])("count %d", (n, words) => expect(count(n)).toBe(words));
  test("a share without a base is no figure", () => {
    expect(share(1, 0)).toBe("–");
    expect(share(361, 1000)).toBe("36.1%");
    expect(share(3, 10000, 2)).toBe("0.03%");
  });
  test("points carry their sign", () => {
    expect(points(0.049)).toBe("+4.9 pts");
    expect(points(-0.02)).toBe("−2.0 pts");
  });
  test.each([
    [1, "1 second"],
    [59, "59 seconds"],
    [60, "1 minute"],
    [3600, "1 hour"],
    [26 * 3600, "26 hours"],
    [3 * 86400, "3 days"],
  ])("duration of %d", (seconds, words) => expect(duration(seconds)).toBe(words));
  test("how long ago", () => {
    expect(ago(NOW - 5, NOW)).toBe("just now");
    expect(ago(NOW - 240, NOW)).toBe("4 minutes ago");
  });
});

describe("moments in the workspace's zone", () => {
  test.each(["UTC", "Europe/Lisbon", "America/St_Johns", "Asia/Kathmandu"])("%s: out and in again", (zone) => {
    const { fromLocalInput, localInput } = timesIn(zone);
    for (const at of [NOW, NOW + 120 * 86400, NOW + 300 * 86400])
      expect(fromLocalInput(localInput(at))).toBe(at - (at % 60));
  });
  test.each([
    ["Europe/Copenhagen", Date.UTC(2026, 2, 28, 12), 0],
    ["Europe/Copenhagen", Date.UTC(2026, 9, 24, 12), 1], // an hour that exists twice is read as one of the two
    ["Australia/Lord_Howe", Date.UTC(2026, 3, 4, 3), 0.5],
  ])("%s: every quarter of an hour over a change of clocks", (zone, from, twice) => {
    const { fromLocalInput, localInput } = timesIn(zone);
    const wrong = [];
    for (let i = 0; i < 4 * 36; i++) {
      const at = from / 1000 + i * 900;
      const back = fromLocalInput(localInput(at));
      expect(localInput(back ?? 0)).toBe(localInput(at));
      if (back !== at) wrong.push(Math.abs((back ?? 0) - at));
    }
    expect(wrong.every((x) => x === twice * 3600)).toBe(true);
  });
  test("as people read them", () => {
    expect(UTC.moment(NOW)).toBe("Thu 12 Mar, 09:42");
    expect(UTC.fromLocalInput("nonsense")).toBeNull();
  });
});

describe("the map", () => {
  const shape = {
    days: [0, 5, 8, 30, 31, 60, 61, 90, 91, 180, 181, 365, 366],
    left: Array.from({ length: 22 }, (_, i) => i),
    dayEdges: [0, 8, 31, 61, 91, 181, 366],
    leftEdges: [0, 1, 3, 6, 11, 21],
  };
  const rows = 22;
  const cell = (days: number, left: number) => (days < 0 ? shape.days.length : shape.days.indexOf(days)) * rows + left;
  test("every fine cell lies in exactly the drawn cell whose rectangle holds it", () => {
    for (let c = 0; c <= shape.days.length; c++)
      for (let r = 0; r < rows; r++) {
        const [dc, dr] = drawnOf(shape, c, r);
        for (let x = 0; x < 8; x++)
          for (let y = 0; y < 6; y++) {
            const box = rectOf(shape, [x, y], [x, y]);
            const holds = c >= box.c0 && c <= box.c1 && r >= box.r0 && r <= box.r1;
            expect(holds).toBe(x === dc && y === dr);
          }
      }
    expect(rectOf(shape, [3, 4], [1, 2])).toEqual(rectOf(shape, [1, 2], [3, 4]));
  });
  test("a handle stands on its edge and finds its way back", () => {
    expect(columnAt(shape, shape.days.indexOf(91))).toBe(4);
    expect(columnAt(shape, shape.days.length)).toBe(7);
    expect(rowAt(shape, 21)).toBe(5);
    for (let i = 0; i <= shape.days.length; i++)
      expect(nearest((n) => columnAt(shape, n), shape.days.length + 1, columnAt(shape, i))).toBe(i);
  });
  test("sums in and beyond a cut-off", () => {
    const group = { words: ["a", "b"], cells: [cell(5, 0), 0, 7, cell(90, 6), 1, 2, cell(-1, 21), 1, 1] };
    expect(byWord(group, rows, null)).toEqual([7, 3]);
    expect(byWord(group, rows, beyond(shape, shape.days.indexOf(90), 5))).toEqual([0, 3]);
    expect(byWord(group, rows, beyond(shape, shape.days.indexOf(90), 7))).toEqual([0, 1]);
  });
  test("the replay without them", () => {
    const none: number[] = [];
    const sums = {
      messages: [cell(5, 0), 100, cell(90, 6), 100],
      delivered: [cell(5, 0), 100, cell(90, 6), 80],
      opens: [cell(5, 0), 50, cell(90, 6), 4],
      clicks: none,
      bookings: none,
      worth: none,
      complaints: [cell(90, 6), 2],
      hard_bounces: [cell(90, 6), 20],
      unsubscribes: none,
    };
    expect(total(sums.messages, rows, null)).toBe(200);
    const rest = without(sums, rows, beyond(shape, shape.days.indexOf(60), 3));
    expect([rest.openRate, rest.complaints, rest.hardBounces, rest.opens]).toEqual([0.5, 0, 0, 50]);
    expect(without(sums, rows, null).openRate).toBeCloseTo(0.3);
    const line = bend(sums, shape, 3);
    expect(line.map((p) => p.days)).toEqual([30, 60, 90, 180, 365]);
    expect(line.map((p) => p.opensLost)).toEqual([4 / 54, 4 / 54, 4 / 54, 0, 0].map((x) => expect.closeTo(x)));
  });
  test("squares are by area, and one person is seen", () => {
    expect(side(0, 100)).toBe(0);
    expect(side(100, 100)).toBe(1);
    expect(side(25, 100)).toBe(0.5);
    expect(side(1, 1_000_000)).toBe(0.1);
  });
  test("strips fill the square and leave nobody out", () => {
    const found = strips([3, 0, 1, 0, 4, 0]);
    expect(found.map(([band]) => band)).toEqual([0, 2, 4]);
    expect(found[0]?.[1]).toBe(0);
    expect(found.at(-1)?.[2]).toBe(1);
  });
});

describe("writing a rule", () => {
  const names = known({ list: ["Family", 'The "big" one'], purpose: ["Season news"] });
  test.each([
    ["", "rejoined", "rejoined"],
    ["rejoined", "never engaged", "rejoined and never engaged"],
    ["rejoined and ", "never engaged", "rejoined and never engaged"],
    ["not (", "rejoined", "not (rejoined"],
  ])("%s + %s", (rule, clause, whole) => expect(withClause(rule, clause)).toBe(whole));
  test("names complete inside their quotes only", () => {
    expect(completions('in list "fam', names)).toEqual({ from: 9, names: ["Family"] });
    expect(completions('in list "Family', names)).toBeNull();
    expect(completions("in list ", names)).toBeNull();
    expect(completions('rejoined and permitted for "', names)?.names).toEqual(["Season news"]);
    expect(completions('has label "', names)).toBeNull();
  });
  test("a quote in a name is doubled", () => {
    const text = starters({ ...names, ...known({ list: ['The "big" one'] }) }).map((s) => s.text);
    expect(text).toContain('in list "The ""big"" one"');
  });
});

describe("the timeline", () => {
  test.each([
    [
      0,
      [9, 17],
      [0, 1],
      [
        [0, 9],
        [17, 24],
      ],
    ],
    [2, [9, 17], [0, 1], [[0, 24]]],
    [1, [0, 24], [0, 1], []],
    [1, [0, 7], [1], [[7, 24]]],
  ])("closed hours of weekday %d", (weekday, hours, weekdays, shut) =>
    expect(closed(weekday, { hours, weekdays })).toEqual(shut),
  );
  test("the weekday is of the workspace's zone", () => {
    expect(timesIn("Asia/Tokyo").weekdayNumber(NOW + 6 * 3600)).toBe(4); // Friday there already
    expect(UTC.weekdayNumber(NOW + 6 * 3600)).toBe(3);
  });
  const slot = (due: number, state = "scheduled"): Slot => ({
    key: String(due),
    label: "1",
    due,
    people: 1,
    state,
    resend: false,
    pilot: false,
    sent: 0,
  });
  test("whole days from the first to the last, now among them", () => {
    const { begin, end, days } = span([slot(NOW + 3 * 86400)], NOW, UTC);
    expect(days).toHaveLength(4);
    expect(begin).toBeLessThanOrEqual(NOW);
    expect(atShare(NOW + 3 * 86400, begin, end)).toBeLessThan(1);
  });
  test("a plan that is over is drawn over its own days", () => {
    expect(span([slot(NOW - 20 * 86400, "sent"), slot(NOW - 18 * 86400, "stopped")], NOW, UTC).days).toHaveLength(3);
    expect(span([slot(NOW - 20 * 86400, "sent"), slot(NOW - 18 * 86400)], NOW, UTC).days).toHaveLength(21);
  });
  test("days are the workspace's, also where the clocks change", () => {
    const berlin = timesIn("Europe/Berlin");
    const { atHour, fromLocalInput, localInput } = berlin;
    const noon = (text: string) => fromLocalInput(`${text}T12:00`) as number;
    const { begin, end, days } = span([slot(noon("2026-03-28")), slot(noon("2026-03-30"))], noon("2026-03-28"), berlin);
    expect(days.map(localInput)).toEqual(["2026-03-28T00:00", "2026-03-29T00:00", "2026-03-30T00:00"]);
    expect((end - begin) / 3600).toBe(71);
    expect(localInput(atHour(days[1] ?? 0, 9))).toBe("2026-03-29T09:00");
    expect(localInput(byKey("ArrowRight", true, noon("2026-03-28"), berlin) ?? 0)).toBe("2026-03-29T12:00");
  });
  test("bars never overlap and never leave the drawing", () => {
    const placed = spread([0, 1, 2, 880, 890], 40, 864);
    for (let i = 1; i < placed.length; i++) expect((placed[i] ?? 0) - (placed[i - 1] ?? 0)).toBeGreaterThanOrEqual(40);
    expect(Math.max(...placed)).toBeLessThanOrEqual(864);
    expect(Math.min(...placed)).toBeGreaterThanOrEqual(0);
  });
});

test("a trace in words", () => {
  expect(traceInWords("oonc")).toBe("opened 2, ignored 1, clicked 1");
  expect(traceInWords("")).toBe("nothing sent yet");
});

describe("clauses as rows", () => {
  const names = known({ purpose: ["Season news"], list: ['The "late" list'], segment: ["Engaged"], message: ["N"] });
  test("every shape writes a sentence of its own, and quotes are doubled", () => {
    const texts = SHAPES.map((s) => textOf(freshOf(s, names)));
    expect(new Set(texts).size).toBe(texts.length);
    expect(texts).toContain("opened at least 1 in 90 days");
    expect(texts).toContain('in list "The ""late"" list"');
    expect(texts).toContain('consent to "Season news" is given');
    expect(texts).toContain('field "…" is one of ("")');
    expect(texts).toContain("engaged within 30 days of joining");
    const bound = { side: "fewer than", value: 2 };
    expect(textOf({ clause: "opened", bound, of: "N", window: { n: 1, unit: "month" } })).toBe(
      'opened fewer than 2 of "N" in 1 month',
    );
  });
  test("groups are nested with brackets, and what negates keeps its own", () => {
    const one = { clause: "rejoined" };
    const either = { clause: "or", parts: [one, { clause: "suppressed" }] };
    expect(textOf({ clause: "and", parts: [one, either] })).toBe("rejoined and (rejoined or suppressed)");
    expect(textOf({ clause: "not", part: either })).toBe("not (rejoined or suppressed)");
    expect(grouped("or", [one, either])?.parts).toHaveLength(3);
    expect(grouped("and", [one])).toBe(one);
    expect(grouped("and", [])).toBeNull();
  });
  test("a time that is left out takes its comparison along", () => {
    const timed = withPart({ clause: "finished sequence", name: "W" }, "side", "more");
    expect(textOf(timed)).toBe('finished sequence "W" more than 30 days ago');
    expect(textOf(withPart(timed, "side", undefined))).toBe('finished sequence "W"');
  });
  test("words that fit next", () => {
    expect(nextWords("band is Ste", { place: 8, fits: ["Strong, Steady or Fading"] })).toEqual({
      from: 8,
      names: ["Steady"],
    });
    expect(nextWords("opened ", { place: 6, fits: ["at least or at most", "by anyone"] })?.names).toEqual([
      "at least",
      "at most",
      "by anyone",
    ]);
    expect(nextWords("foo and ", { place: 0, fits: ["band"] })).toBeNull();
    expect(nextWords("joined less than ", { place: 17, fits: ["a number", "the end of the rule"] })).toBeNull();
  });
});

describe("a list", () => {
  const items = [
    { name: "Spring 10", rate: 0.2 },
    { name: "spring 9", rate: null },
    { name: "Autumn", rate: 0.4 },
  ];
  test.each([
    ["", 3],
    ["SPRING", 2],
    ["10 spring", 1],
    ["winter", 0],
  ])("searched for “%s”", (search, found) => {
    expect(items.filter((i) => hasWords(i.name, search)).length).toBe(found);
  });
  test.each([
    ["name", false, ["Autumn", "spring 9", "Spring 10"]],
    ["rate", false, ["Spring 10", "Autumn", "spring 9"]],
    ["rate", true, ["Autumn", "Spring 10", "spring 9"]],
  ] as const)("in the order of %s, down %s: numbers as numbers, without one last", (by, down, wanted) => {
    expect(inOrder(items, (i) => i[by], down).map((i) => i.name)).toEqual(wanted);
  });
});

describe("pasted addresses", () => {
  test.each([
    ["a@x.example\n\n b@x.example ", 2, 'email,name\n"a@x.example",""\n"b@x.example",""\n'],
    ['Mira Harrow <a@x.example>\n"Otto, Q." <b@x.example>', 2, '"a@x.example","Mira Harrow"\n"b@x.example","Otto, Q."'],
    ["a@x.example, b@x.example; Mira <c@x.example>", 3, '"c@x.example","Mira"'],
    ["Mail;Town\na@x.example;Saltmere", 1, "Mail;Town\na@x.example;Saltmere\n"],
  ])("%s", async (text, rows, part) => {
    const found = pastedFile(text);
    expect(found?.rows).toBe(rows);
    expect(await found?.file.text()).toContain(part);
  });
  test("no address, no file", () => expect(pastedFile("Mira\nOtto")).toBeNull());
});

describe("marks", () => {
  test("some, and all but some", () => {
    const some = mark(mark(NO_MARKS, [1, 2, 3], true), [2], false);
    expect([isMarked(some, 1), isMarked(some, 2), marked(some, 10)]).toEqual([true, false, 2]);
    const but = mark(ALL_MARKS, [4], false);
    expect([isMarked(but, 4), isMarked(but, 5), marked(but, 10)]).toEqual([false, true, 9]);
    const filter = { rule: "rejoined", text: "", bands: ["Inactive"] };
    expect(choiceOf(but, filter)).toEqual({ ...filter, ids: null, without: [4] });
    expect(choiceOf(some, filter)).toEqual({ rule: "", text: "", bands: [], ids: [1, 3], without: [] });
    expect(marked(mark(but, [4], true), 10)).toBe(10);
  });
});
