const STATE_TAG: Record<string, string> = {
  pass: "tag-good",
  warning: "tag-warning",
  fail: "tag-fail",
  draft: "tag-plain",
  scheduled: "tag-active",
  queued: "tag-plain",
  sending: "tag-active",
  running: "tag-active",
  paused: "tag-warning",
  ended: "tag-plain",
  finished: "tag-good",
  sent: "tag-good",
  stopped: "tag-fail",
  waiting: "tag-plain",
  unknown: "tag-plain",
  done: "tag-good",
  open: "tag-warning",
  skipped: "tag-plain",
  "within limit": "tag-good",
  "near limit": "tag-warning",
  "over limit": "tag-fail",
};

export function StateTag({ state, words }: { state: string; words?: string }) {
  return (
    <span className={`tag font-sans ${STATE_TAG[state] ?? "tag-plain"}`} style={{ fontStretch: "100%" }}>
      {words ?? state}
    </span>
  );
}
