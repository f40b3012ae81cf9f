import vue from '@vitejs/plugin-vue'
import { BootstrapVueNextResolver } from 'bootstrap-vue-next/resolvers'
import Components from 'unplugin-vue-components/vite'
import { defineConfig } from 'vite'

export default defineConfig({
  plugins: [vue(), Components({ dirs: [], dts: 'src/components.d.ts', resolvers: [BootstrapVueNextResolver()] })],
  build: { chunkSizeWarningLimit: 700 },
  server: { proxy: { '/v1': 'http://127.0.0.1:7100' } },
})
