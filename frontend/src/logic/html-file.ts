export const MOST_HTML = 1_000_000;

/** A file's text as a message's HTML, or the sentence that says why not. A whole page is taken as it is. */
export function htmlOf(name: string, size: number, text: string): { html: string } | { problem: string } {
  if (size > MOST_HTML)
    return { problem: `${name} has ${Math.round(size / 1000)} kB; a message's HTML has at most 1 MB.` };
  if (text.includes("\ufffd")) return { problem: `${name} is not written in UTF-8; save it so, and take it again.` };
  if (!/<[a-z!][^>]*>/i.test(text)) return { problem: `${name} holds no HTML.` };
  return { html: text.replace(/^\ufeff/, "").replaceAll("\r\n", "\n") };
}
