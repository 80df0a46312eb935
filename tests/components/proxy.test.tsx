import { expect, test, vi } from "vitest";
import { get } from "../../frontend/src/api/client";

const html = { "content-type": "text/html" };

test.each([
  [502, html, "The server is not responding."],
  [504, html, "The server is not responding."],
  [429, html, "Too many requests"],
  [413, html, "larger than the web server"],
  [404, html, "could not be read"],
  [503, { "content-type": "application/json" }, "Locked."],
])("a reply of %i that is %o", async (status, headers, said) => {
  vi.stubGlobal(
    "fetch",
    async () => new Response('{"error": "Locked."}'.slice(status === 503 ? 0 : 1), { status, headers }),
  );
  await expect(get("/me")).rejects.toThrow(said);
  vi.unstubAllGlobals();
});
