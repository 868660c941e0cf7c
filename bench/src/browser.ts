import { spawn, spawnSync, type ChildProcess } from 'node:child_process'
import { existsSync } from 'node:fs'
import { chromium } from '@playwright/test'
import type { JobState, Step } from '@oak-gauge/contract'
import { f32, u32 } from '@oak-gauge/core/base/arrays.ts'
import { writeStl } from '@oak-gauge/core/formats/stl.ts'
import { makeMesh, type Mesh } from '@oak-gauge/core/shape/mesh.ts'

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

/** A mesh of 2 M triangles through the real server, database and browser. Undefined where Chromium or PostgreSQL is missing. */
export async function openInBrowser(): Promise<BrowserFigures | undefined> {
  const executablePath = process.env['CHROMIUM'] ?? '/usr/bin/chromium'
  if (!existsSync(executablePath)) {
    process.stderr.write('no Chromium: the browser is not measured\n')
    return undefined
  }
  if (!existsSync('web/dist/index.html')) spawnSync('npm', ['run', '-s', 'build:web'], { stdio: 'inherit' })
  const port = 4950
  const url = `http://127.0.0.1:${port}`
  const server: ChildProcess = spawn('node', ['.build/server.js'], {
    env: { ...process.env, OAK_THROWAWAY: '1', OAK_DEMO: 'none', OAK_LOG: 'warn', PORT: String(port) },
    stdio: ['ignore', 'ignore', 'inherit'],
  })
  try {
    await until(async () => (await fetch(`${url}/api/v1/health`)).ok, 60)
    const made = (await (
      await fetch(`${url}/api/v1/jobs`, { method: 'POST', headers: { 'content-type': 'application/json' }, body: '{"title":"Ring"}' })
    ).json()) as JobState
    const mesh = ring(2000, 500)
    const file = new Blob([...writeStl(mesh, 'ring')] as BlobPart[])
    let start = performance.now()
    const step = (await (await fetch(`${url}/api/v1/jobs/${made.job.id}/files?name=ring.stl&unit=mm&role=mesh`, { method: 'PUT', body: file })).json()) as Step
    const state = async () => (await (await fetch(`${url}/api/v1/jobs/${made.job.id}`)).json()) as JobState
    await until(async () => {
      const s = (await state()).steps.find((x) => x.id === step.id)
      if (s?.state === 'failed') throw new Error(s.problem?.detail)
      return s?.state === 'done'
    }, 120)
    const taken = (performance.now() - start) / 1000
    const browser = await chromium.launch({
      executablePath,
      chromiumSandbox: process.getuid?.() !== 0,
      args: ['--use-angle=swiftshader', '--enable-unsafe-swiftshader', '--disable-background-networking', '--no-first-run'],
    })
    const context = await browser.newContext({ viewport: { width: 1280, height: 800 } })
    const times: number[] = []
    for (let k = 0; k < 2; k++) {
      const page = await context.newPage()
      start = performance.now()
      await page.goto(`${url}/jobs/${made.job.id}`)
      await page.locator('canvas[data-waiting="0"]:not([data-drawn="0"])').waitFor()
      // a picture of it: nothing is left to be drawn when that is there
      const picture = await page.screenshot()
      times.push((performance.now() - start) / 1000)
      if (picture.length < 20_000) throw new Error('the page is empty')
      await page.close()
    }
    await browser.close()
    return { triangles: mesh.triangles.length / 3, megabytes: file.size / 1e6, taken, first: times[0], again: times[1] }
  } finally {
    server.kill('SIGTERM')
    await new Promise((resolve) => server.once('exit', resolve))
  }
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
