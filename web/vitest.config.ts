import vue from '@vitejs/plugin-vue'
import vuetify from 'vite-plugin-vuetify'
import { defineConfig } from 'vitest/config'

/** What needs no pixels: logic, stores and components, against what the server lists (`told.json`, written by
 * `./gust test`) and the demo studies. Whole tasks of a user are tested by Playwright. */
export default defineConfig({
  plugins: [vue(), vuetify({ autoImport: true })],
  test: {
    environment: 'happy-dom',
    include: ['tests/**/*.test.ts'],
    restoreMocks: true,
    css: false,
    maxWorkers: 2, // by itself it leaves one core to nobody
    testTimeout: 30_000,
    server: { deps: { inline: ['vuetify'] } },
  },
})
