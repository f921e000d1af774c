import vue from '@vitejs/plugin-vue'
import { ElementPlusResolver } from 'unplugin-vue-components/resolvers'
import components from 'unplugin-vue-components/vite'
import { defineConfig } from 'vitest/config'

export default defineConfig({
  plugins: [
    vue(),
    // Components of the library are imported where they are used, with their own styles only.
    components({ dts: false, dirs: [], resolvers: [ElementPlusResolver({ importStyle: 'css' })] }),
  ],
  build: { outDir: 'dist/app', emptyOutDir: true, sourcemap: false, chunkSizeWarningLimit: 600 },
  worker: { format: 'es', rollupOptions: { output: { entryFileNames: 'workbench/[name]-[hash].js' } } },
  server: { proxy: { '/api': 'http://127.0.0.1:8410' } },
  test: { environment: 'jsdom', include: ['src/**/*.test.ts'], server: { deps: { inline: ['element-plus'] } } },
})
