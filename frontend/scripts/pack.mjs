// Beside each script and style of the build, the same packed, so that the server can send it small.
import { readdirSync, readFileSync, statSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import { brotliCompressSync, constants, gzipSync } from "node:zlib";

const folder = process.argv[2];
for (const name of readdirSync(folder, { recursive: true })) {
  const path = join(folder, name);
  if (!/\.(js|css|svg)$/.test(name) || statSync(path).size < 1000) continue;
  const data = readFileSync(path);
  writeFileSync(`${path}.gz`, gzipSync(data, { level: 9 }));
  writeFileSync(`${path}.br`, brotliCompressSync(data, { params: { [constants.BROTLI_PARAM_QUALITY]: 11 } }));
}
