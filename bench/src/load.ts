import { spawn } from 'node:child_process'
import { existsSync, mkdtempSync, readFileSync, rmSync, writeFileSync } from 'node:fs'
import { setPriority, tmpdir } from 'node:os'
import { join } from 'node:path'
import type { JobState, MappingRun, ScannerSummary } from '@oak-gauge/contract'
import { seeded } from '@oak-gauge/core/base/random.ts'
import { startProgram } from './program.ts'
import { wavySheet } from './sheet.ts'
import type { Stall } from './stallwatch.ts'

type Add = (what: string, got: string, must: string, aim: string) => void
const pause = (ms: number) => new Promise((resolve) => setTimeout(resolve, ms))
/** Bytes of the file that is imported. */
const FILE = 2e9

/**
 * A process that only looks at the clock a hundred times a second: how late it is in the last minute, ms, is what the machine itself does to whoever wants to
 * run. A web server cannot be better than that.
 */
function doingNothing(): { longest(): number; end(): void } {
  const child = spawn(
    'node',
    [
      '-e',
      'let l = performance.now(), m = 0; setInterval(() => { const n = performance.now(); m = Math.max(m, n - l - 10); l = n }, 10); setInterval(() => { process.send(m); m = 0 }, 10000)',
    ],
    { stdio: ['ignore', 'ignore', 'inherit', 'ipc'] },
  )
  const late: number[] = []
  child.on('message', (m) => late.push(m as number))
  return { longest: () => Math.max(0, ...late.slice(-6)), end: () => void child.kill() }
}

/**
 * A busy workshop: files of 2 GB come in one after the other and are read, a mesh of two million triangles leaves in all formats, markers are mapped, and
 * somebody looks at the pages. How long the event loop of the web server was held up at once is asked of the server itself. args: minutes=60, bytes=2e9.
 */
export async function benchLoad(args: string[], add: Add, say: (line: string) => void): Promise<void> {
  const given = (name: string, usual: number) => Number(args.find((a) => a.startsWith(`${name}=`))?.slice(name.length + 1) ?? usual)
  const [minutes, bytes] = [given('minutes', 60), given('bytes', FILE)]
  const folder = mkdtempSync(join(tmpdir(), 'oak-load-'))
  const stalls = join(folder, 'stalls')
  const watch = `--import ${new URL('stallwatch.js', import.meta.url).href}`
  const program = await startProgram({ OAK_THROWAWAY: '1', OAK_STALLS: stalls, NODE_OPTIONS: watch })
  const url = `${program.origin}/api/v1`
  const idle = doingNothing()
  // those who send and fetch stand at machines of their own as a rule: here they take what the server leaves
  setPriority(10)
  const session = '/proc/self/autogroup'
  if (existsSync(session)) writeFileSync(session, '10')
  const refused: string[] = []
  const call = async (method: string, path: string, body?: unknown): Promise<unknown> => {
    // a connection each time: one that waits is ended by the server just when a starved client wants it again
    const headers = { connection: 'close', ...(body === undefined ? {} : { 'content-type': 'application/json' }) }
    const r = await fetch(`${url}${path}`, { method, headers, ...(body === undefined ? {} : { body: JSON.stringify(body) }) })
    const answer: unknown = await r.json().catch(() => null)
    if (r.status >= 500) refused.push(`${r.status} ${method} ${path}: ${JSON.stringify(answer)}`)
    return answer
  }
  const state = async (job: string) => (await call('GET', `/jobs/${job}`)) as JobState
  const newJob = async (title: string) => (await call('POST', '/jobs', { title })) as JobState
  const quiet = async (job: string, look = 500) => {
    for (;;) {
      const s = await state(job)
      if (!s.steps.some((x) => x.state === 'queued' || x.state === 'running')) return s
      await pause(look)
    }
  }
  let until = Infinity
  const going = () => Date.now() < until
  const done = { imports: 0, exports: 0, frames: 0, pages: 0 }

  const importing = async () => {
    while (going()) {
      const { job } = await newJob('Large')
      const r = await fetch(`${url}/jobs/${job.id}/files?name=large.xyz&unit=mm`, {
        method: 'PUT',
        body: pointText(bytes) as unknown as BodyInit,
        duplex: 'half',
      } as RequestInit)
      if (!r.ok) refused.push(`${r.status} import`)
      const [step] = (await quiet(job.id)).steps
      if (step.state !== 'done') refused.push(`import: ${JSON.stringify(step.problem)}`)
      done.imports++
      await call('DELETE', `/jobs/${job.id}`)
    }
  }
  const exporting = async () => {
    // more files than are kept, so that each is written anew
    const meshes: string[] = []
    for (let k = 0; k < 3; k++) {
      const { job } = await newJob('Sheet')
      await fetch(`${url}/jobs/${job.id}/files?name=sheet${k}.stl&unit=mm`, { method: 'PUT', body: wavySheet(1000) })
      meshes.push((await quiet(job.id)).tray[0].id)
    }
    const formats = ['3mf', 'ply', 'obj', 'stl']
    for (let k = 0; going(); k++) {
      const r = await fetch(`${url}/items/${meshes[Math.floor(k / 4) % 3]}/file?format=${formats[k % 4]}`)
      for await (const _piece of r.body ?? []) if (!going()) break
      if (!r.ok) refused.push(`${r.status} export`)
      done.exports++
    }
  }
  const mapping = async () => {
    const alder = ((await call('GET', '/scanners')) as { items: ScannerSummary[] }).items.find((s) => s.name === 'Alder') as ScannerSummary
    await call('PATCH', `/scanners/${alder.id}`, { on: true })
    const s = await newJob('Markers')
    while (going()) {
      await call('POST', `/jobs/${s.job.id}/mapping`, { scanner: alder.id, setup: s.setups[0].id })
      let run: MappingRun | null = null
      const end = Math.min(until, Date.now() + 60_000)
      while (Date.now() < end) {
        await call('POST', `/scanners/${alder.id}/run/path`, {})
        run = (await call('GET', `/scanners/${alder.id}/run`)) as MappingRun | null
        await pause(1000)
      }
      done.frames += run?.frames ?? 0
      await call('POST', `/scanners/${alder.id}/run/end`, {})
      await quiet(s.job.id)
    }
  }
  const looking = async () => {
    while (going()) {
      for (const j of ((await call('GET', '/jobs')) as { items: { id: string }[] }).items) await call('GET', `/jobs/${j.id}`)
      done.pages++
      await pause(1000)
    }
  }
  try {
    for (let i = 0; i < 600 && !(await fetch(`${url}/health`).catch(() => null))?.ok; i++) await pause(100)
    // until the demo is there
    while (((await call('GET', '/jobs')) as { items: unknown[] }).items.length < 4) await pause(1000)
    for (const j of ((await call('GET', '/jobs')) as { items: { id: string }[] }).items) await quiet(j.id)
    // what the server says is of the last minute, and that was the start
    await pause(70_000)
    until = Date.now() + minutes * 60_000
    say(`${minutes} minutes from ${new Date().toISOString()}`)
    const people = [importing(), exporting(), mapping(), looking()]
    const held: number[] = []
    const beside: number[] = []
    const answers: number[] = []
    while (going()) {
      const t = performance.now()
      const { stalls } = (await call('GET', '/health')) as { stalls: { longest: number } }
      answers.push(performance.now() - t)
      held.push(stalls.longest)
      beside.push(idle.longest())
      if (held.length % 60 === 0) say(`${Math.round(held.length / 6)} min: ${Math.max(...held).toFixed(0)} ms, ${JSON.stringify(done)}`)
      await pause(10_000)
    }
    await Promise.all(people)
    for (const line of [...new Set(refused)].slice(0, 10)) say(line)
    held.sort((a, b) => a - b)
    beside.sort((a, b) => a - b)
    add(
      `${minutes} minutes of imports of ${(bytes / 1e9).toFixed(1)} GB (${done.imports}), exports of 2.0 M triangles (${done.exports}), a mapping (${done.frames} frames) and pages (${done.pages}) at once, event loop of the web server held up at once: longest / median of the longest of each minute; that of a process that does nothing beside it / longest answer of health / answers of 500`,
      `${held[held.length - 1].toFixed(0)} / ${held[held.length >> 1].toFixed(0)}; ${beside[beside.length - 1].toFixed(0)} / ${beside[beside.length >> 1].toFixed(0)} / ${Math.max(...answers).toFixed(0)} ms / ${refused.length}`,
      '100 ms',
      '30 ms',
    )
    const seen = (existsSync(stalls) ? readFileSync(stalls, 'utf8').split('\n').filter(Boolean) : []).map((line) => JSON.parse(line) as Stall)
    const during = seen.filter((s) => s.at > until - minutes * 60_000 && s.at < until)
    const longest = [...during].sort((a, b) => b.late - b.taken - a.late + a.taken).slice(0, 5)
    for (const s of longest) say(`stood for ${s.late.toFixed(0)} ms: ran ${s.ran.toFixed(0)}, waited ${s.waited.toFixed(0)}, taken ${s.taken}`)
    const most = (of: (s: Stall) => number) => Math.max(0, ...during.map(of)).toFixed(0)
    add(
      'the same, without what the machine below gave to others meanwhile: longest that it stood / longest that it ran at once / given to others, longest and in all',
      `${most((s) => s.late - s.taken)} / ${most((s) => s.ran)} / ${most((s) => s.taken)} ms, ${(during.reduce((sum, s) => sum + s.taken, 0) / 1000).toFixed(1)} s`,
      '100 ms',
      '30 ms',
    )
  } catch (e) {
    // the others fail as soon as the server ends: what came first is what counts
    process.stderr.write(`${e instanceof Error ? e.stack : String(e)}\n`)
    throw e
  } finally {
    until = 0
    idle.end()
    await program.end()
    rmSync(folder, { recursive: true, force: true })
  }
}

/** Text of points within 300 mm, always the same. */
async function* pointText(bytes: number): AsyncGenerator<Uint8Array> {
  const random = seeded(3)
  const line = () => `${(300 * random.next()).toFixed(4)} ${(200 * random.next()).toFixed(4)} ${(80 * random.next()).toFixed(4)}\n`
  const block = Buffer.from(Array.from({ length: 40_000 }, line).join(''))
  for (let n = 0; n < bytes; n += block.length) {
    yield block
    await Promise.resolve()
  }
}
