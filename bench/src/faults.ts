import { randomUUID } from 'node:crypto'
import { readdirSync, readFileSync } from 'node:fs'
import type { JobState, MappingRun, ScannerSummary, Step } from '@oak-gauge/contract'
import { seeded } from '@oak-gauge/core/base/random.ts'
import { startProgram } from './program.ts'

type Add = (what: string, got: string, must: string, aim: string) => void
const pause = (ms: number) => new Promise((resolve) => setTimeout(resolve, ms))

const read = (path: string) => {
  try {
    return readFileSync(path, 'utf8')
  } catch {
    return ''
  }
}
const processes = () => readdirSync('/proc').filter((p) => /^\d+$/.test(p))

/**
 * Processes of the running program are killed at random moments while people work with it: they import, compute, step back, merge, and map markers. What was
 * once told to be done must stay done; nothing may hang when it is over. args: kills=200, seed=1 (of the moments).
 */
export async function benchFaults(args: string[], add: Add, say: (line: string) => void): Promise<void> {
  const given = (name: string, usual: number) => Number(args.find((a) => a.startsWith(`${name}=`))?.slice(name.length + 1) ?? usual)
  const [kills, seed] = [given('kills', 200), given('seed', 1)]
  const program = await startProgram({ OAK_THROWAWAY: '1', OAK_LOG: 'silent', OAK_CLOCK: '4000' }, true)
  const url = `${program.origin}/api/v1`
  const { pid } = program.process
  const victims: Record<string, () => string | undefined> = {
    ...Object.fromEntries(
      ['http', 'worker', 'sessions'].map((name) => [
        name,
        () =>
          processes().find((p) => read(`/proc/${p}/cmdline`).includes(`${name}.js`) && read(`/proc/${p}/stat`).split(') ')[1]?.split(' ')[1] === String(pid)),
      ]),
    ),
    database: () =>
      processes().find((p) => read(`/proc/${p}/cmdline`).startsWith('/usr/lib/postgresql') && read(`/proc/${p}/cmdline`).includes(`/test-${pid}-`)),
  }
  /** Asks until there is an answer: whoever works goes on when the page is there again. */
  const call = async (method: string, path: string, body?: unknown): Promise<{ status: number; body: unknown }> => {
    for (;;) {
      try {
        const json = body === undefined || typeof body === 'string'
        const r = await fetch(`${url}${path}`, {
          method,
          ...(body === undefined ? {} : { body: json ? body : JSON.stringify(body), headers: json ? {} : { 'content-type': 'application/json' } }),
        })
        const answer: unknown = await r.json().catch(() => null)
        if (r.status === 500) strange.push(`${method} ${path}: ${JSON.stringify(answer)}`)
        // an answer may have been cut off
        if (r.status !== 500 && r.status !== 503 && (answer !== null || path.endsWith('/run'))) return { status: r.status, body: answer }
      } catch {
        // not there just now
      }
      await pause(100)
    }
  }
  const strange: string[] = []
  let going = true
  let killed = 0
  /** what the server once said is done */
  const committed = new Map<string, string>()
  const state = async (job: string) => {
    const s = (await call('GET', `/jobs/${job}`)).body as JobState
    for (const x of s.steps) if (x.state === 'done' && !x.preview) committed.set(x.id, job)
    return s
  }
  const quiet = async (job: string) => {
    for (;;) {
      const s = await state(job)
      if (!going || !s.steps.some((x) => x.state === 'queued' || x.state === 'running')) return s
      await pause(50)
    }
  }
  const newJob = async (title: string) => ((await call('POST', '/jobs', { title })).body as JobState).job
  const points = (random: ReturnType<typeof seeded>, n: number) => {
    const z = (x: number, y: number) => 6 * Math.sin(x / 9) * Math.cos(y / 11)
    return Array.from({ length: n }, () => [60 * random.next(), 40 * random.next()])
      .map(([x, y]) => `${x.toFixed(3)} ${y.toFixed(3)} ${z(x, y).toFixed(3)}`)
      .join('\n')
  }

  /** Imports, thins, steps back, takes another way. */
  const work = async (who: number): Promise<void> => {
    const random = seeded(100 * seed + who)
    for (let round = 0; going; round++) {
      const job = (await newJob(`Work ${who}.${round}`)).id
      await call('PUT', `/jobs/${job}/files?name=pass.xyz&unit=mm&request=${randomUUID()}`, points(random, 40_000))
      let s = await quiet(job)
      for (let k = 0; k < 6 && going && s.tray.length; k++) {
        const slot = s.tray[0].slot
        const merge = k === 4
        await call('POST', `/jobs/${job}/steps`, {
          ...(merge
            ? { operation: 'merge', inputs: { passes: [slot] }, params: { cell: 0.8 } }
            : { operation: 'thin', inputs: { passes: [slot] }, params: { size: 0.1 + 0.03 * k + 0.01 * random.next() } }),
          request: randomUUID(),
        })
        s = await quiet(job)
        const first = s.steps.find((x) => x.state === 'done')
        if (k === 2 && first) await call('POST', `/jobs/${job}/head`, { step: first.id })
      }
    }
  }
  /** Maps the workshop's marking board, again and again. */
  const mapped = { maps: 0, lost: 0, worst: 0 }
  const map = async (): Promise<void> => {
    let alder: ScannerSummary | undefined
    while (!alder) alder = ((await call('GET', '/scanners')).body as { items: ScannerSummary[] }).items.find((s) => s.name === 'Alder')
    await call('PATCH', `/scanners/${alder.id}`, { on: true })
    const job = await newJob('Markers')
    const s = await state(job.id)
    const run = async () => (await call('GET', `/scanners/${alder.id}/run`)).body as MappingRun | null
    while (going) {
      const begun = await call('POST', `/jobs/${job.id}/mapping`, { scanner: alder.id, setup: s.setups[0].id })
      if (begun.status !== 202) {
        await pause(500)
        // begun, though the answer was lost: led on
        if ((await run())?.kind !== 'mapping') continue
      }
      let frames = 0
      const until = Date.now() + 9000
      while (going && Date.now() < until) {
        await call('POST', `/scanners/${alder.id}/run/path`, {})
        const r = await run()
        if (r) {
          if (r.frames < frames) {
            mapped.lost++
            mapped.worst = Math.max(mapped.worst, frames - r.frames)
          }
          frames = r.frames
        }
        await pause(150)
      }
      if (frames > 40) {
        await call('POST', `/scanners/${alder.id}/run/end`, {})
        mapped.maps++
      } else await call('POST', `/scanners/${alder.id}/run/cancel`, {})
      await state(job.id)
    }
  }

  try {
    await call('GET', '/health')
    const people = [work(1), work(2), map()]
    const random = seeded(seed)
    const names = Object.keys(victims)
    while (killed < kills) {
      await pause(500 + 5000 * random.next())
      const name = names[Math.floor(names.length * random.next())]
      const pid = victims[name]()
      if (!pid) continue
      try {
        process.kill(Number(pid), 'SIGKILL')
        killed++
        if (killed % 20 === 0) say(`${killed} killed, ${committed.size} steps done, ${mapped.maps} maps`)
      } catch {
        // ended by itself a moment ago
      }
    }
    going = false
    await Promise.all(people)
    await call('GET', '/health')
    // everything is back: a minute for what waits
    const jobs = ((await call('GET', '/jobs?limit=500')).body as { items: { id: string; title: string }[] }).items
    const end = Date.now() + 60_000
    let open: Step[] = []
    do {
      open = []
      for (const j of jobs)
        open.push(...((await call('GET', `/jobs/${j.id}`)).body as JobState).steps.filter((x) => x.state === 'queued' || x.state === 'running'))
      await pause(200)
    } while (open.length && Date.now() < end)
    let missing = 0
    let broken = 0
    for (const j of jobs) {
      const now = (await call('GET', `/jobs/${j.id}`)).body as JobState
      for (const [step, job] of committed) if (job === j.id && !now.steps.some((x) => x.id === step && x.state === 'done')) missing++
      for (const i of now.tray) if (!(await fetch(`${url}/items/${i.id}/display`)).ok) broken++
    }
    for (const line of [...new Set(strange)].slice(0, 10)) say(line)
    add(
      `kill -9 of server, worker, session process, database at ${killed} moments: steps lost / results broken / steps that hang / answers of 500`,
      `${missing} of ${committed.size} / ${broken} / ${open.length} / ${strange.length}; ${mapped.maps} maps, their frames fewer after it ${mapped.lost} times, by ${mapped.worst} at most`,
      '0 / 0 / 0',
      '',
    )
  } finally {
    going = false
    await program.end()
  }
}
