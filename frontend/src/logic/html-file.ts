export const MOST_HTML = 1_000_000;

/** A file's text as a message's HTML, or the sentence that says why not. A whole page is taken as it is. */
export function htmlOf(name: string, size: number, text: string): { html: string } | { problem: string } {
  if (size > MOST_HTML) return { problem: `${name} is too large (${Math.round(size / 1000)} kB; the limit is 1 MB).` };
  if (text.includes("\ufffd")) return { problem: `${name} is not UTF-8. Save it as UTF-8 and try again.` };
  if (!/<[a-z!][^>]*>/i.test(text)) return { problem: `${name} contains no HTML.` };
  return { html: text.replace(/^\ufeff/, "").replaceAll("\r\n", "\n") };
}
