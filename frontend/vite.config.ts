import { fileURLToPath } from "node:url";
import tailwindcss from "@tailwindcss/vite";
import react from "@vitejs/plugin-react";
import { defineConfig } from "vitest/config";

const COMPONENTS = fileURLToPath(new URL("../tests/components", import.meta.url));
const HERE = fileURLToPath(new URL("./src/main.tsx", import.meta.url));

export default defineConfig({
  plugins: [
    react(),
    tailwindcss(),
    {
      // the component tests stand outside of this folder and use its packages
      name: "packages-of-tests",
      enforce: "pre",
      resolveId(id, importer) {
        const bare = !/^[./\0]/.test(id);
        return bare && importer?.startsWith(COMPONENTS) ? this.resolve(id, HERE, { skipSelf: true }) : null;
      },
    },
  ],
  build: { outDir: "../openmeadow/web/dist", emptyOutDir: true, chunkSizeWarningLimit: 1200 },
  test: { include: ["src/**/*.test.ts", "../tests/components/*.test.tsx"] },
  server: { fs: { allow: [".."] } },
});
