import { spawnSync } from 'node:child_process'
import { existsSync } from 'node:fs'
import { chromium, type Browser, type Page } from '@playwright/test'
import type { JobState, Step } from '@oak-gauge/contract'
import { f32, u32 } from '@oak-gauge/core/base/arrays.ts'
import { seeded } from '@oak-gauge/core/base/random.ts'
import { writePly } from '@oak-gauge/core/formats/ply.ts'
import { writeStl } from '@oak-gauge/core/formats/stl.ts'
import { makeMesh, type Mesh } from '@oak-gauge/core/shape/mesh.ts'
import { makePoints } from '@oak-gauge/core/shape/points.ts'
import { startProgram } from './program.ts'

/** A rippled ring of 2 rows * columns triangles, closed. */
function ring(rows: number, columns: number): Mesh {
  const vertices = f32(3 * rows * columns)
  const triangles = u32(6 * rows * columns)
  for (let i = 0; i < rows; i++)
    for (let j = 0; j < columns; j++) {
      const [u, v] = [(2 * Math.PI * i) / rows, (2 * Math.PI * j) / columns]
      const r = 20 + 0.4 * Math.sin(31 * u) * Math.sin(17 * v)
      vertices.set([(60 + r * Math.cos(v)) * Math.cos(u), (60 + r * Math.cos(v)) * Math.sin(u), r * Math.sin(v)], 3 * (i * columns + j))
      const [a, b] = [i * columns + j, i * columns + ((j + 1) % columns)]
      const [c, d] = [((i + 1) % rows) * columns + j, ((i + 1) % rows) * columns + ((j + 1) % columns)]
      triangles.set([a, d, b, a, c, d], 6 * (i * columns + j))
    }
  return makeMesh({ vertices, triangles })
}

export interface BrowserFigures {
  triangles: number
  megabytes: number
  /** file sent to the mesh on the tray, s */
  taken: number
  /** address entered to the mesh drawn: first time, and again with the browser's store filled, s */
  first: number
  again: number
}

interface Opened {
  url: string
  job: JobState
  bring(name: string, role: string, file: Blob): Promise<void>
  /** a page at 1280 x 800, without a graphics card */
  page(): Promise<Page>
}

/** A server of its own with an empty job, and a browser before it. Undefined where Chromium is missing. */
async function opened<T>(measure: (o: Opened) => Promise<T>): Promise<T | undefined> {
  const executablePath = process.env['CHROMIUM'] ?? '/usr/bin/chromium'
  if (!existsSync(executablePath)) {
    process.stderr.write('no Chromium: the browser is not measured\n')
    return undefined
  }
  if (!existsSync('web/dist/index.html')) spawnSync('npm', ['run', '-s', 'build:web'], { stdio: 'inherit' })
  const program = await startProgram({ OAK_THROWAWAY: '1', OAK_DEMO: 'none' })
  const url = program.origin
  let browser: Browser | undefined
  try {
    await until(async () => (await fetch(`${url}/api/v1/health`)).ok, 60)
    const headers = { 'content-type': 'application/json' }
    const job = (await (await fetch(`${url}/api/v1/jobs`, { method: 'POST', headers, body: '{"title":"Ring"}' })).json()) as JobState
    const state = async () => (await (await fetch(`${url}/api/v1/jobs/${job.job.id}`)).json()) as JobState
    browser = await chromium.launch({
      executablePath,
      chromiumSandbox: process.getuid?.() !== 0,
      args: ['--use-angle=swiftshader', '--enable-unsafe-swiftshader', '--disable-background-networking', '--no-first-run'],
    })
    const context = await browser.newContext({ viewport: { width: 1280, height: 800 } })
    return await measure({
      url,
      job,
      page: () => context.newPage(),
      async bring(name, role, file) {
        const r = await fetch(`${url}/api/v1/jobs/${job.job.id}/files?name=${name}&unit=mm&role=${role}`, { method: 'PUT', body: file })
        const step = (await r.json()) as Step
        await until(async () => {
          const s = (await state()).steps.find((x) => x.id === step.id)
          if (s?.state === 'failed') throw new Error(s.problem?.detail)
          return s?.state === 'done'
        }, 240)
      },
    })
  } finally {
    await browser?.close()
    await program.end()
  }
}

/** A mesh of 2 M triangles through the real server, database and browser. Undefined where Chromium or PostgreSQL is missing. */
export function openInBrowser(): Promise<BrowserFigures | undefined> {
  return opened(async ({ url, job, bring, page: newPage }) => {
    const mesh = ring(2000, 500)
    const file = new Blob([...writeStl(mesh, 'ring')] as BlobPart[])
    let start = performance.now()
    await bring('ring.stl', 'mesh', file)
    const taken = (performance.now() - start) / 1000
    const times: number[] = []
    for (let k = 0; k < 2; k++) {
      const page = await newPage()
      start = performance.now()
      await page.goto(`${url}/jobs/${job.job.id}`)
      await page.locator('canvas[data-waiting="0"]:not([data-drawn="0"])').waitFor()
      // a picture of it: nothing is left to be drawn when that is there
      const picture = await page.screenshot()
      times.push((performance.now() - start) / 1000)
      if (picture.length < 20_000) throw new Error('the page is empty')
      await page.close()
    }
    return { triangles: mesh.triangles.length / 3, megabytes: file.size / 1e6, taken, first: times[0], again: times[1] }
  })
}

export interface OrbitFigures {
  points: number
  /** while it is turned: script of the page for one picture, and from picture to picture, ms */
  script: number
  between: number
  /** at rest, all points: until they are drawn, s; the longest time from one frame to the next meanwhile, ms */
  whole: number
  refined: number
  longest: number
}

/** 20 million points in five passes: turned with the mouse, and left alone until all of them are drawn. */
export function orbitInBrowser(): Promise<OrbitFigures | undefined> {
  return opened(async ({ url, job, bring, page: newPage }) => {
    const each = 4_000_000
    for (let k = 0; k < 5; k++) {
      const xyz = f32(3 * each)
      const random = seeded(k)
      for (let i = 0; i < each; i++) {
        const [u, v] = [2 * Math.PI * random.next(), 2 * Math.PI * random.next()]
        const r = 20 + 0.4 * Math.sin(31 * u) * Math.sin(17 * v)
        xyz.set([(60 + r * Math.cos(v)) * Math.cos(u), (60 + r * Math.cos(v)) * Math.sin(u), r * Math.sin(v)], 3 * i)
      }
      await bring(`ring${k}.ply`, 'pass', new Blob([...writePly(makePoints({ xyz }), 'a ring')] as BlobPart[]))
    }
    const page = await newPage()
    const client = await page.context().newCDPSession(page)
    await client.send('Performance.enable')
    const script = async () => (await client.send('Performance.getMetrics')).metrics.find((m) => m.name === 'ScriptDuration')?.value ?? 0
    await page.goto(`${url}/jobs/${job.job.id}/clean`)
    await page.locator('canvas[data-waiting="0"][data-settled="1"]').waitFor({ timeout: 60_000 })
    const pictures = () => page.evaluate(() => Number(document.querySelector('canvas')?.dataset['pictures']))
    const [s0, n0, t0] = [await script(), await pictures(), performance.now()]
    await page.mouse.move(500, 400)
    await page.mouse.down()
    for (let k = 0; k < 200; k++) await page.mouse.move(500 + 150 * Math.sin(k / 20), 400 + 60 * Math.cos(k / 20))
    await page.mouse.up()
    const [s1, n1, t1] = [await script(), await pictures(), performance.now()]
    const rest = performance.now()
    await page.evaluate(() => {
      const w = window as unknown as { longest: number }
      w.longest = 0
      let last = performance.now()
      const tick = () => {
        const now = performance.now()
        w.longest = Math.max(w.longest, now - last)
        last = now
        requestAnimationFrame(tick)
      }
      requestAnimationFrame(tick)
    })
    await page.locator('canvas[data-refined]').waitFor({ timeout: 600_000 })
    const whole = (performance.now() - rest) / 1000
    const refined = await page.evaluate(() => Number(document.querySelector('canvas')?.dataset['refined']))
    const longest = await page.evaluate(() => (window as unknown as { longest: number }).longest)
    return { points: 5 * each, script: (1000 * (s1 - s0)) / (n1 - n0), between: (t1 - t0) / (n1 - n0), whole, refined, longest }
  })
}

async function until(ready: () => Promise<boolean>, seconds: number): Promise<void> {
  const end = performance.now() + 1000 * seconds
  while (performance.now() < end) {
    const ok = await ready().catch((e: unknown) => {
      if (e instanceof TypeError) return false
      throw e
    })
    if (ok) return
    await new Promise((resolve) => setTimeout(resolve, 50))
  }
  throw new Error('the server does not come up, or does not finish')
}
