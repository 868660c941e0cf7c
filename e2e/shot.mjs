import { chromium } from '@playwright/test'
const b = await chromium.launch({
  executablePath: '/usr/bin/chromium',
  chromiumSandbox: false,
  args: ['--use-angle=swiftshader', '--enable-unsafe-swiftshader'],
})
const p = await b.newPage({ viewport: { width: 1280, height: 800 } })
p.on('console', (m) => {
  if (m.type() === 'error' || m.type() === 'warning') console.log('console:', m.text().slice(0, 300))
})
const base = 'http://127.0.0.1:4188'
const shot = (n) => p.screenshot({ path: `/tmp/s-${n}.png` })
const cmds = process.argv.slice(2)
const ids = Object.fromEntries((await (await fetch(base + '/api/scanners')).json()).map((s) => [s.name, s.id]))
await import(process.env.WALK ?? './walk.mjs').then((m) => m.default({ p, base, shot, ids, cmds }))
await b.close()
