/** Pasted addresses as the file that they would be. Pure: no React. */

const LINE = /^\s*(?:"?([^"<@]*?)"?\s*<)?([^\s<>,;"]+@[^\s<>,;"]+)>?\s*$/;

/** A CSV of what is pasted, one address a line or several with commas between; a table with headings stays as it is. Null where
 * there is no address. */
export function pastedFile(text: string): { file: File; rows: number } | null {
  const lines = text.split(/\r?\n/).filter((l) => l.trim());
  if (!lines.some((l) => l.includes("@"))) return null;
  const name = "pasted.csv";
  if (!lines[0]?.includes("@")) return { file: new File([`${lines.join("\n")}\n`], name), rows: lines.length - 1 };
  const rows = lines.flatMap((l) => {
    const whole = LINE.exec(l);
    const parts = whole ? [l] : l.split(/[,;\t]/).filter((p) => p.includes("@"));
    return parts.map((p) => {
      const found = LINE.exec(p);
      return found ? [found[2] ?? "", found[1]?.trim() ?? ""] : [p.trim(), ""];
    });
  });
  const quoted = (cell: string) => `"${cell.replaceAll('"', '""')}"`;
  return {
    file: new File([`email,name\n${rows.map((r) => r.map(quoted).join(",")).join("\n")}\n`], name),
    rows: rows.length,
  };
}
