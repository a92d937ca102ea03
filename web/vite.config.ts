import tailwind from "@tailwindcss/vite";
import react from "@vitejs/plugin-react";
import { defineConfig } from "vite";

export default defineConfig({
  plugins: [react(), tailwind()],
  // Files find each other from where they are; the service puts the path before the addresses in the page itself.
  experimental: { renderBuiltUrl: (file, { hostType }) => (hostType === "html" ? "/" + file : { relative: true }) },
  build: {
    outDir: "dist",
    emptyOutDir: true,
    chunkSizeWarningLimit: 800,
    cssCodeSplit: false,
    rolldownOptions: {
      output: {
        // What every page needs, and the first page, come in one file: each further request costs a round trip.
        advancedChunks: {
          groups: [
            {
              name: "base",
              test: /node_modules[\\/](?!uplot|uqr|@zxing|ts-custom-error|@floating-ui|@radix-ui[\\/]react-(?:tooltip|popper|arrow)|@tanstack[\\/]react-virtual|@tanstack[\\/]virtual)|src[\\/](api|session|round)[\\/]|src[\\/]parts[\\/](?!chart|reader)|src[\\/]bays[\\/]drawing/,
            },
          ],
        },
      },
    },
  },
  server: { proxy: { "/api": "http://127.0.0.1:7411" } },
});
