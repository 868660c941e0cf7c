import { beforeAll, describe, expect, test } from '@jest/globals'
import { spawn } from 'node:child_process'
import { existsSync, readFileSync } from 'node:fs'
import { quietContext } from '@oak-gauge/core/base/run.ts'
import init from 'replicad-opencascadejs'
import { fixture, oakError } from '../../core/test/help.ts'
import { cadProcess } from '../src/index.ts'

/** Built by ./test before the tests run. */
const file = new URL('../../.build/cad.js', import.meta.url).pathname
const cube = fixture('cad/cube-mm.step')
/** takes seconds to cover with triangles */
let ring: Uint8Array
beforeAll(async () => {
  const oc = await init({ print: () => undefined })
  const writer = new oc.STEPControl_Writer()
  const axes = new oc.gp_Ax2(new oc.gp_Pnt(0, 0, 0), new oc.gp_Dir(0, 0, 1))
  writer.Transfer(new oc.BRepPrimAPI_MakeTorus(axes, 12, 2.5).Shape(), oc.STEPControl_StepModelType.STEPControl_AsIs, true, new oc.Message_ProgressRange())
  writer.Write('/out.step')
  ring = oc.FS.readFile('/out.step')
})
/** processes that read for the one with this number */
const readers = (pid: number | string) =>
  readFileSync(`/proc/${pid}/task/${pid}/children`, 'utf8')
    .split(' ')
    .filter((p) => p.trim() && existsSync(`/proc/${p}`) && readFileSync(`/proc/${p}/cmdline`, 'utf8').includes('cad.js'))
const until = async (holds: () => boolean) => {
  for (let i = 0; i < 600 && !holds(); i++) await new Promise((r) => setTimeout(r, 50))
  expect(holds()).toBe(true)
}

describe('the CAD kernel in its own process', () => {
  test('two files at once, each with its own kernel; nothing is left running', async () => {
    const kernel = cadProcess({ file })
    const both = await Promise.all([cube, cube].map((b) => kernel.read(b, {}, quietContext.signal)))
    for (const s of both) expect([s.surfaces.length, Math.round(s.volume)]).toEqual([6, 1e9])
    await until(() => readers(process.pid).length === 0)
  })
  test('what goes wrong in there comes back in words, and the next file is read', async () => {
    const kernel = cadProcess({ file })
    const e = await oakError(kernel.read(new TextEncoder().encode('ISO-10303-21; nonsense'), {}, quietContext.signal))
    expect([e.code, e.remedy !== '']).toEqual(['bad-step', true])
    expect((await kernel.read(cube, {}, quietContext.signal)).solids).toBe(1)
  })
  test('too long, too much memory, not built', async () => {
    const slow = await oakError(cadProcess({ file, seconds: 0.2 }).read(ring, { chord: 1e-3 }, quietContext.signal))
    expect([slow.code, slow.message]).toEqual(['cad-time', 'The CAD kernel was not done with the file after 0.2 s.'])
    expect((await oakError(cadProcess({ file, megabytes: 50 }).read(ring, { chord: 1e-3 }, quietContext.signal))).code).toBe('cad-memory')
    expect((await oakError(cadProcess({ file: '' }).read(cube, {}, quietContext.signal))).code).toBe('no-cad')
  })
  test('cancelled while it computes', async () => {
    const signal = { aborted: false }
    const reading = cadProcess({ file }).read(ring, { chord: 1e-3 }, signal)
    await until(() => readers(process.pid).length === 1)
    signal.aborted = true
    expect((await oakError(reading)).code).toBe('cancelled')
    await until(() => readers(process.pid).length === 0)
  })
  test('ended from outside, as by a system short of memory', async () => {
    const reading = oakError(cadProcess({ file }).read(ring, { chord: 1e-3 }, quietContext.signal))
    await until(() => readers(process.pid).length === 1)
    process.kill(Number(readers(process.pid)[0]), 'SIGKILL')
    expect(await reading).toMatchObject({ code: 'bad-step', message: 'The CAD kernel’s process ended while it read the file (SIGKILL).' })
  })
  test('it ends with whoever asked, even if that one is killed', async () => {
    const program = `import { fork } from 'node:child_process'
      const c = fork(${JSON.stringify(file)}, { serialization: 'advanced', stdio: ['ignore', 'ignore', 'ignore', 'ipc'] })
      c.send({ bytes: Uint8Array.from(Buffer.from('${Buffer.from(ring).toString('base64')}', 'base64')), chord: 1e-4, seconds: 100, megabytes: 4000 })
      process.stdout.write(String(c.pid))`
    const host = spawn(process.execPath, ['--input-type=module', '-e', program], { stdio: ['ignore', 'pipe', 'ignore'] })
    const pid = await new Promise<string>((resolve) => host.stdout.once('data', (d: Buffer) => resolve(String(d))))
    expect(existsSync(`/proc/${pid}`)).toBe(true)
    host.kill('SIGKILL')
    await until(() => !existsSync(`/proc/${pid}`))
  })
})
