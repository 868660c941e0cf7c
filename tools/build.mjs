// Bundles every Node program of the project into .build/, so that nothing has to be transpiled when it starts.
import { build } from 'esbuild'
import { existsSync } from 'node:fs'

const root = new URL('..', import.meta.url).pathname
const entries = {
  thread: 'threads/src/thread.ts',
  cad: 'cad/src/process.ts',
  bench: 'bench/src/main.ts',
  brokenreader: 'bench/src/brokenreader.ts',
  stallwatch: 'bench/src/stallwatch.ts',
  oak: 'cli/src/main.ts',
  server: 'server/src/main.ts',
  http: 'server/src/http.ts',
  sessions: 'server/src/sessions/main.ts',
  trackthread: 'server/src/capture/trackthread.ts',
  helper: 'server/src/helper/process.ts',
  worker: 'server/src/worker/main.ts',
  runner: 'server/src/worker/runner.ts',
  seed: 'server/src/seed.ts',
  backup: 'server/src/backup/main.ts',
  standin: 'scanners/src/main.ts',
}
const present = Object.fromEntries(Object.entries(entries).filter(([, f]) => existsSync(root + f)))
await build({
  entryPoints: present,
  absWorkingDir: root,
  outdir: '.build',
  bundle: true,
  platform: 'node',
  format: 'esm',
  target: 'node20',
  splitting: true,
  sourcemap: true,
  logLevel: 'warning',
  plugins: [
    {
      // packages stay where npm put them: WebAssembly ones look for their files beside themselves
      name: 'external-packages',
      setup(b) {
        b.onResolve({ filter: /^[^./]/ }, (a) => (a.path.startsWith('@oak-gauge/') || a.kind === 'entry-point' ? undefined : { path: a.path, external: true }))
      },
    },
  ],
})
