import { readFileSync, readdirSync, writeFileSync } from 'node:fs'
import { brotliCompressSync, gzipSync } from 'node:zlib'
import vue from '@vitejs/plugin-vue'
import vuetify from 'vite-plugin-vuetify'
import { defineConfig, type Plugin } from 'vite'

/** What is sent often is there in fewer bytes, made once. */
const compressed: Plugin = {
  name: 'compressed',
  apply: 'build',
  closeBundle() {
    for (const name of readdirSync('dist/assets').filter((n) => /\.(js|css|svg)$/.test(n))) {
      const whole = readFileSync(`dist/assets/${name}`)
      writeFileSync(`dist/assets/${name}.gz`, gzipSync(whole, { level: 9 }))
      writeFileSync(`dist/assets/${name}.br`, brotliCompressSync(whole))
    }
  },
}

export default defineConfig({
  plugins: [vue(), vuetify({ autoImport: true }), compressed],
  build: { target: 'es2022', chunkSizeWarningLimit: 1600, assetsInlineLimit: 0 },
  server: { proxy: { '/api': 'http://127.0.0.1:8321' } },
})
