import { defineConfig } from 'vitest/config'

/** What is logic, without a browser; what a user does is tested by Playwright. */
export default defineConfig({
  test: { environment: 'happy-dom', include: ['tests/**/*.test.ts'], restoreMocks: true },
})
