import { createHash } from "node:crypto";
import { readFileSync } from "node:fs";
import tailwindcss from "@tailwindcss/vite";
import react from "@vitejs/plugin-react";
import { defineConfig } from "vite";
import { VitePWA } from "vite-plugin-pwa";

/** Answers kept in a browser have the form that the API had then. */
const api = createHash("sha256").update(readFileSync("src/api/schema.d.ts")).digest("hex").slice(0, 12);

export default defineConfig({
  define: { __BUILD__: JSON.stringify(api) },
  plugins: [
    react(),
    tailwindcss(),
    // The application's own files are kept in the browser, so that it opens without a connection. Its data is not: see api/seen.ts.
    VitePWA({
      injectRegister: null,
      registerType: "autoUpdate",
      manifest: {
        name: "Sondar",
        short_name: "Sondar",
        description: "Circuit diagnosis with predictions for every reading",
        start_url: "/",
        display: "standalone",
        background_color: "#fbfaf4",
        theme_color: "#fbfaf4",
        icons: [{ src: "/mark.svg", sizes: "any", type: "image/svg+xml" }],
      },
      workbox: {
        globPatterns: ["**/*.{html,js,css,woff2,svg}"],
        inlineWorkboxRuntime: true,
        cleanupOutdatedCaches: true,
        clientsClaim: true,
        skipWaiting: true,
        directoryIndex: null,
        navigateFallback: null,
        runtimeCaching: [
          {
            // The server's own page first, so that a new version is seen at once.
            urlPattern: ({ request, url }) => request.mode === "navigate" && !url.pathname.startsWith("/api/"),
            handler: "NetworkFirst",
            options: {
              networkTimeoutSeconds: 4,
              precacheFallback: { fallbackURL: "/index.html" },
              plugins: [{ cacheWillUpdate: async () => null }], // every address is the same page, which is kept already
            },
          },
        ],
      },
    }),
  ],
  server: { proxy: { "/api": "http://127.0.0.1:8000" } },
  build: { target: "es2022", chunkSizeWarningLimit: 900 },
});
