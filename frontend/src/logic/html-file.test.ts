import { expect, test } from "vitest";
import { htmlOf, MOST_HTML } from "./html-file";

test.each([
  ["letter.html", 40, "<p>Dear {{ first_name }}</p>", "<p>Dear {{ first_name }}</p>"],
  [
    "page.htm",
    90,
    "\ufeff<!doctype html>\r\n<html><body>x</body></html>",
    "<!doctype html>\n<html><body>x</body></html>",
  ],
])("%s is taken as it is", (name, size, text, html) => expect(htmlOf(name, size, text)).toEqual({ html }));

test.each([
  ["big.html", MOST_HTML + 1, "<p>x</p>", "big.html is too large (1000 kB; the limit is 1 MB)."],
  ["old.html", 20, "<p>Gr\ufffd\ufffde</p>", "old.html is not UTF-8. Save it as UTF-8 and try again."],
  ["list.csv", 20, "email,name\na < b", "list.csv contains no HTML."],
  ["empty.html", 0, "", "empty.html contains no HTML."],
])("%s is refused in a sentence", (name, size, text, problem) => expect(htmlOf(name, size, text)).toEqual({ problem }));
