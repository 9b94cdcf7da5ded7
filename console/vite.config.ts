import { copyFileSync, mkdirSync, readdirSync, readFileSync, statSync, writeFileSync } from 'node:fs'
import { join } from 'node:path'
import { fileURLToPath } from 'node:url'
import { constants, gzipSync } from 'node:zlib'
import vue from '@vitejs/plugin-vue'
import { defineConfig, type Plugin } from 'vite'
import vuetify from 'vite-plugin-vuetify'

/** Smaller files gain nothing: they fit into one packet as they are. */
const LEAST_BYTES = 1400

/** The module for pages of others, and an example of one; they are served as they are. */
function client(): Plugin {
  let folder = ''
  return {
    name: 'client',
    apply: 'build',
    configResolved(config) {
      folder = join(config.build.outDir, 'client')
    },
    writeBundle() {
      const source = fileURLToPath(new URL('../client', import.meta.url))
      mkdirSync(folder, { recursive: true })
      for (const name of readdirSync(source)) {
        if (/\.(js|css|html|d\.ts|py)$/.test(name)) copyFileSync(join(source, name), join(folder, name))
      }
    },
  }
}

/** Writes a gzip file beside each text file; the service sends it to those who take it. */
function compressed(): Plugin {
  let folder = ''
  return {
    name: 'compressed',
    apply: 'build',
    configResolved(config) {
      folder = config.build.outDir
    },
    closeBundle() {
      for (const name of readdirSync(folder, { recursive: true, encoding: 'utf8' })) {
        const path = join(folder, name)
        if (!/\.(js|css|html|svg|json)$/.test(name) || statSync(path).size < LEAST_BYTES) continue
        writeFileSync(`${path}.gz`, gzipSync(readFileSync(path), { level: constants.Z_BEST_COMPRESSION }))
      }
    },
  }
}

export default defineConfig({
  plugins: [vue(), vuetify({ autoImport: true }), client(), compressed()],
  resolve: { alias: { '@': fileURLToPath(new URL('./src', import.meta.url)) } },
  build: {
    chunkSizeWarningLimit: 1500,
    // The audio thread takes its program from an address of its own, not from the text of another one.
    assetsInlineLimit: (file) => (file.endsWith('microphone.js') ? false : undefined),
  },
  server: { proxy: { '/api': 'http://127.0.0.1:7420', '/sign-in': 'http://127.0.0.1:7420' } },
})
