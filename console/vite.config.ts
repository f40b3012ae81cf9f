import { readdirSync, readFileSync, writeFileSync } from 'node:fs'
import { join } from 'node:path'
import { brotliCompressSync, gzipSync } from 'node:zlib'

import vue from '@vitejs/plugin-vue'
import { BootstrapVueNextResolver } from 'bootstrap-vue-next/resolvers'
import Components from 'unplugin-vue-components/vite'
import { defineConfig, type Plugin } from 'vite'

const LEAST_BYTES = 1000

/** Puts each asset beside itself, compressed once and for all; the service sends whichever the browser takes. */
function compressed(): Plugin {
  let folder = ''
  return {
    name: 'compressed',
    apply: 'build',
    configResolved: (config) => void (folder = join(config.root, config.build.outDir, 'assets')),
    closeBundle() {
      for (const name of readdirSync(folder)) {
        if (!/\.(js|css|svg)$/.test(name)) continue
        const content = readFileSync(join(folder, name))
        if (content.length < LEAST_BYTES) continue
        writeFileSync(join(folder, `${name}.br`), brotliCompressSync(content))
        writeFileSync(join(folder, `${name}.gz`), gzipSync(content, { level: 9 }))
      }
    },
  }
}

export default defineConfig({
  plugins: [vue(), Components({ dirs: [], dts: 'src/components.d.ts', resolvers: [BootstrapVueNextResolver()] }), compressed()],
  build: { chunkSizeWarningLimit: 700 },
  server: { proxy: { '/v1': 'http://127.0.0.1:7100' } },
})
