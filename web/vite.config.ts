import vue from '@vitejs/plugin-vue'
import { defineConfig } from 'vitest/config'

export default defineConfig({
  plugins: [vue()],
  // The host asked for stays: Hurnix refuses changes that come from pages of another one.
  server: { proxy: { '/api': { target: 'http://127.0.0.1:8470', changeOrigin: false } } },
  build: {
    rolldownOptions: {
      output: {
        codeSplitting: {
          groups: [
            { name: 'vue', test: /node_modules[\\/](@?vue|pinia|@vueuse)/, priority: 20 },
            // What is loaded when it is first needed stays apart.
            {
              name: 'controls',
              test: /node_modules[\\/](?!highlight\.js|sql-formatter|nearley|echarts|zrender)/,
              priority: 10,
            },
          ],
        },
      },
    },
    chunkSizeWarningLimit: 1200,
    // Files of their own: the content security policy refuses data: fonts.
    assetsInlineLimit: 0,
  },
  // Modules are loaded once, and not anew for each file: loading the controls takes longer than all tests.
  test: { environment: 'happy-dom', isolate: false, setupFiles: 'src/testing/setup.ts' },
})
