interface Typed {
  kind: string;
  value?: unknown;
}

/** A setting's value as it is typed: a list one a line, an object as JSON, a secret never. */
export function asText(s: Typed): string {
  if (s.kind === "secret") return "";
  if (s.kind === "list" && Array.isArray(s.value))
    return s.value.map((v) => (typeof v === "string" ? v : JSON.stringify(v))).join("\n");
  if (s.kind === "object") return JSON.stringify(s.value ?? {});
  return String(s.value ?? "");
}

/** The value that a text means. */
export function asValue(s: Typed, text: string): unknown {
  if (s.kind === "switch") return text === "true";
  if (s.kind === "number") return Number(text);
  if (s.kind === "list")
    return text
      .split(/[\n,](?![^{]*\})/)
      .map((v) => v.trim())
      .filter(Boolean)
      .map((v) => (v.startsWith("{") ? parsed(v) : v));
  if (s.kind === "object") return parsed(text || "{}");
  return text.trim();
}

function parsed(text: string): unknown {
  try {
    return JSON.parse(text);
  } catch {
    throw new Error(`“${text.slice(0, 60)}” is not JSON.`);
  }
}
