import type { M } from "../../api/client";
import { count, duration, share } from "../../logic/format";

export type Step = M["LadderStep"];
export type Shown = M["StepShown"];
export type Ladder = M["LadderIn"];

export const DAY = 86400;
export const MAILS = ["message", "repeat", "consent request"];
export const WEEKDAYS = ["Mon", "Tue", "Wed", "Thu", "Fri", "Sat", "Sun"];

export const KINDS: { kind: string; words: string; means: string }[] = [
  { kind: "message", words: "Message", means: "Something to read." },
  { kind: "repeat", words: "Repeat", means: "An earlier message again, to those who left it unanswered." },
  { kind: "question", words: "Question", means: "Sends people on, to the second lane, further down or to the end." },
  { kind: "wait", words: "Wait", means: "For a time, until an hour, for a weekday." },
  { kind: "label", words: "Label", means: "Puts a label on, or takes it off." },
  { kind: "list", words: "List", means: "Adds to a list, or takes off it." },
  { kind: "field", words: "Field", means: "Writes a value into a field." },
  { kind: "consent request", words: "Consent request", means: "Asks whether one may write. Once per person." },
  { kind: "let go", words: "Let go", means: "Suppresses whoever comes here, on the record." },
  { kind: "end", words: "End", means: "The sequence is over for whoever comes here." },
];

export const BEGINS: { on: string; words: string; what: "" | keyof M["SequenceChoices"] }[] = [
  { on: "by hand", words: "people are put in by hand", what: "" },
  { on: "joins a list", words: "somebody joins a list", what: "lists" },
  { on: "confirms", words: "somebody confirms", what: "purposes" },
  { on: "awaits confirmation", words: "somebody has yet to confirm", what: "purposes" },
  { on: "gets a label", words: "somebody gets a label", what: "labels" },
  { on: "enters a segment", words: "somebody enters a segment", what: "segments" },
  { on: "a date", words: "a date in a field comes", what: "fields" },
  { on: "books", words: "somebody books", what: "" },
];

export function span(seconds: number): string {
  if (seconds && seconds % (7 * DAY) === 0 && seconds >= 14 * DAY) return `${seconds / (7 * DAY)} weeks`;
  const days = seconds / DAY;
  return days && Number.isInteger(days) ? `${days} ${days === 1 ? "day" : "days"}` : duration(seconds);
}

export function waiting(s: Step): string {
  const parts = [];
  if (s.wait) parts.push(span(s.wait));
  if (s.hour !== null)
    parts.push(`until ${String(s.hour).padStart(2, "0")}:00${s.own_zone ? " in their own zone" : ""}`);
  if (s.weekdays.length) parts.push(`on ${s.weekdays.map((d) => WEEKDAYS[d]).join(", ")}`);
  return parts.join(", ");
}

/** What a step's name is where another step speaks of it. */
export function titleOf(steps: Shown[], key: number): string {
  return steps.find((s) => s.key === key)?.title || "a message";
}

export function sentence(s: Step, steps: Shown[]): string {
  switch (s.kind) {
    case "message":
    case "consent request":
      return titleOf(steps, s.key);
    case "repeat":
      return `${titleOf(steps, s.of)}, again`;
    case "question": {
      const within = s.wait || s.hour !== null ? ` within ${waiting(s)}` : "";
      if (s.asks === "rule") return `${s.rule || "A rule"}${waiting(s) ? `, after ${waiting(s)}` : ""}?`;
      return `${s.asks === "clicked" ? "Clicked" : "Opened or clicked"} “${titleOf(steps, s.of)}”${within}?`;
    }
    case "wait":
      return `Wait ${waiting(s) || "…"}`;
    case "label":
      return `${s.take ? "Take off the label" : "Label"} “${s.name || "…"}”`;
    case "list":
      return `${s.take ? "Take off the list" : "Put on the list"} “${s.name || "…"}”`;
    case "field":
      return `${s.name || "A field"} becomes “${s.value}”`;
    case "let go":
      return "Let them go";
    default:
      return "End";
  }
}

export function leads(to: string, steps: Shown[]): string {
  if (to === "go on") return "go on";
  if (to === "end") return "the end";
  if (to === "second lane") return "second lane";
  return `on at “${titleOf(steps, Number(to))}”`;
}

export function sentWords(f: M["StepFigures"]): string {
  if (!f.sent) return "";
  return `${count(f.sent)} sent · ${share(f.opened, f.sent, 0)} opened · ${share(f.clicked, f.sent, 0)} clicked`;
}

export function dayWords(day: number[] | null): string {
  if (!day) return "";
  const [a, b] = day.map((x) => Math.floor(x / DAY)) as [number, number];
  return a === b ? `Day ${a}` : `Day ${a}–${b}`;
}

/** Over how many days so many people begin; the first day may take fewer. */
export function daysOf(people: number, first: number, aDay: number): number {
  return first ? 1 + Math.ceil(Math.max(0, people - first) / aDay) : Math.ceil(people / aDay);
}

/** A new step of a kind. In a sequence that runs it is switched off at first: it is filled in, then switched on. */
export function newStep(kind: string, key: number, l: Ladder, lane: number, off = false): Step {
  const messages = l.steps.filter((s) => s.kind === "message" || s.kind === "consent request");
  const of = messages[messages.length - 1]?.key ?? 0;
  return {
    key,
    kind,
    lane,
    meets: lane === 1,
    off,
    name: "",
    wait: kind === "wait" ? 2 * DAY : kind === "question" || kind === "repeat" ? 3 * DAY : 0,
    hour: null,
    weekdays: [],
    own_zone: false,
    asks: "answered",
    of: kind === "question" || kind === "repeat" ? of : 0,
    rule: "",
    yes: "go on",
    no: kind === "question" ? "end" : "second lane",
    value: "",
    take: false,
    subject: "",
    preview: "",
    purposes: [],
  };
}
