import { defineConfig, devices } from '@playwright/test'

const port = Number(process.env['OAK_TEST_PORT'] ?? 4700 + (process.pid % 250))
process.env['OAK_TEST_PORT'] = String(port)

export default defineConfig({
  testDir: 'tests',
  workers: 1,
  // what computes gives way to everything else: on a busy machine an import of a second takes half a minute
  timeout: 240_000,
  expect: { timeout: 100_000 },
  reporter: [['list'], ['json']],
  outputDir: '../.build/browser',
  use: {
    ...devices['Desktop Chrome'],
    baseURL: `http://127.0.0.1:${port}`,
    viewport: { width: 1280, height: 800 },
    acceptDownloads: true,
    // recording every test costs a part of its time: OAK_TRACE=1 to look into one
    trace: process.env['OAK_TRACE'] ? 'retain-on-failure' : 'off',
    screenshot: 'only-on-failure',
    launchOptions: {
      executablePath: process.env['CHROMIUM'] ?? '/usr/bin/chromium',
      chromiumSandbox: process.getuid?.() !== 0,
      args: ['--use-angle=swiftshader', '--enable-unsafe-swiftshader', '--disable-background-networking', '--disable-component-update', '--no-first-run'],
    },
  },
  webServer: {
    // the real thing, on a database of its own that is thrown away
    command: 'node .build/server.js',
    cwd: '..',
    url: `http://127.0.0.1:${port}/api/v1/health`,
    env: { OAK_THROWAWAY: '1', OAK_LOG: 'warn', OAK_CLOCK: '600', PORT: String(port) },
    reuseExistingServer: false,
    timeout: 60_000,
    gracefulShutdown: { signal: 'SIGTERM', timeout: 10_000 },
  },
})
