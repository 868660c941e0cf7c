import { bytesSource } from '@oak-gauge/core/formats/source.ts'
import { readAny, writeAny } from '@oak-gauge/core/formats/index.ts'
import type { CaptureRun, JobState, MappingRun, ScannerDetail, ScannerSummary, Step } from '@oak-gauge/contract'
import { distancesTo } from '../../core/test/help.ts'
import { tray } from '../../core/test/tray.ts'
import { stockShelf } from '../src/scanners/demo.ts'
import { startAll, until, type All } from './help.ts'

/** A server apart, a job whose nominal is the tray, and scanners of the shelf that are on and warm; and what tests of recordings ask of them. */
export async function atTheShelf(...names: string[]) {
  process.env['OAK_CLOCK'] = '4000'
  const all: All = await startAll({ apart: true })
  await stockShelf()
  const shelf: Record<string, string> = {}
  for (const s of (await all.call('GET', '/scanners')).body.items as ScannerSummary[]) shelf[s.name] = s.id
  const job: JobState = await all.newJob('Tray')
  const stl = Buffer.concat([...writeAny('stl', tray, 'tray')])
  const nominal = await all.bring(job.job.id, 'tray.stl', stl, '&role=nominal&unit=mm')
  if (nominal.state !== 'done') throw new Error('the nominal was not read')
  const warm = (name: string) =>
    until(
      async () => (await all.call('GET', `/scanners/${shelf[name]}`)).body as ScannerDetail,
      (s) => s.link === 'connected' && s.state?.warm === true,
    )
  for (const name of names) {
    await all.call('PATCH', `/scanners/${shelf[name]}`, { on: true })
    await warm(name)
  }
  const run = async <T = CaptureRun>(name: string): Promise<T> => (await all.call('GET', `/scanners/${shelf[name]}/run`)).body
  return {
    all,
    job,
    shelf,
    warm,
    run,
    /** by frame: s, fate, sigma, known */
    async line(name: string): Promise<number[][]> {
      const f = new Float32Array(await (await fetch(`${all.url}/api/v1/scanners/${shelf[name]}/timeline`)).arrayBuffer())
      return Array.from({ length: f.length / 4 }, (_, i) => [...f.subarray(4 * i, 4 * i + 4)])
    },
    act: (name: string, what: string, body: object = {}) => all.call('POST', `/scanners/${shelf[name]}/run/${what}`, body),
    led: (name: string) =>
      until(
        () => run<CaptureRun | MappingRun>(name),
        (r) => r.path === null,
        120,
      ),
    /** What is held is tracked to its last frame: nothing more is placed for a second. */
    settled(name: string) {
      let before = -1
      return until(
        async () => {
          await new Promise((resolve) => setTimeout(resolve, 1000))
          const now = await run(name)
          const same = now.placed === before
          before = now.placed
          return { ...now, same }
        },
        (r) => r.same,
        120,
      )
    },
    begin: (scanner: string, body: object = {}) =>
      all.call('POST', `/jobs/${job.job.id}/capture`, { scanner: shelf[scanner], setup: job.setups[0].id, ...body }),
    finished: (id: string | null) =>
      until(
        async () => (await all.state(job.job.id)).steps.find((s) => s.id === id),
        (s) => !!s && ['done', 'failed', 'cancelled'].includes(s.state),
        300,
      ) as Promise<Step>,
    passes: async () => (await all.state(job.job.id)).tray.filter((i) => i.role === 'pass'),
    /** The process that keeps sessions is killed, and another one takes over. */
    async killed(...names: string[]) {
      const gone = new Promise((resolve) => all.sessions().once('exit', resolve))
      all.sessions().kill('SIGKILL')
      await gone
      await all.startSessions()
      for (const name of names) await warm(name)
    },
    /** rms distance of a pass to the part that stood there, mm, and the share of it within 3 mm */
    async offPart(item: string): Promise<{ rms: number; share: number }> {
      const file = new Uint8Array(await (await fetch(`${all.url}/api/v1/items/${item}/file?format=ply`)).arrayBuffer())
      const { data } = await readAny(bytesSource('pass.ply', file))
      if (data.kind !== 'points') throw new Error('no points')
      const each = distancesTo(tray, data.xyz, 3)
      const off = each.filter((d) => d < 3)
      return { rms: Math.sqrt(off.reduce((s, d) => s + d * d, 0) / off.length), share: off.length / each.length }
    },
  }
}
export type Shelf = Awaited<ReturnType<typeof atTheShelf>>
export const evidence = (s: Step, id: string) => s.evidence?.quantities.find((q) => q.id === id)?.value
