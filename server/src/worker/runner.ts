import { parentPort, workerData } from 'node:worker_threads'
import { OakError, inFile } from '@oak-gauge/core/base/errors.ts'
import type { RunContext } from '@oak-gauge/core/base/run.ts'
import { operation, runOperation } from '@oak-gauge/core/operations/registry.ts'
import type { Inputs, Item } from '@oak-gauge/core/operations/operation.ts'
import { fieldLevel, meshLevel, pointsLevel, type DisplayLevel } from '@oak-gauge/core/shape/display.ts'
import { estimateNormals } from '@oak-gauge/core/shape/normals.ts'
import { makePoints } from '@oak-gauge/core/shape/points.ts'
import { cadProcess } from '@oak-gauge/cad'
import { letCollect, threadPool } from '@oak-gauge/threads'
import { fileSource } from '../blobs.ts'
import { openPool } from '../db/connect.ts'
import { toProblem } from '../problem.ts'
import type { FromRunner, MadeItem, RunRequest } from './messages.ts'
import { packValue, type Arrays } from './pack.ts'
import { paint } from './picture.ts'

/** The thread that computes. It may be ended at any moment: it holds nothing that is not elsewhere too. */
const port = parentPort
if (!port) throw new Error('runner.ts runs as a worker thread only')
const { url } = workerData as { url: string }
const db = openPool(url, 2)
letCollect()
const pool = threadPool()
const cad = cadProcess()

port.on('message', (r: RunRequest) => {
  const say = (m: FromRunner) => port.postMessage(m)
  run(r, say).catch((e: unknown) =>
    say({ id: r.id, kind: 'failed', problem: toProblem(e), stack: e instanceof OakError ? null : e instanceof Error ? (e.stack ?? null) : String(e) }),
  )
})

async function run(r: RunRequest, say: (m: FromRunner) => void): Promise<void> {
  let last = 0
  const ctx: RunContext = {
    parallel: pool,
    cad,
    signal: {
      get aborted() {
        return Atomics.load(r.cancel, 0) === 1
      },
    },
    progress(done, phase) {
      const now = performance.now()
      if (now - last < 100) return
      last = now
      say({ id: r.id, kind: 'progress', done, phase: phase ?? '' })
    },
  }
  const start = performance.now()
  const inputs: Inputs = r.file ? { ...r.inputs, file: [{ kind: 'file', source: await fileSource(db, r.file.id, r.file.name) }] } : r.inputs
  let result
  try {
    result = await runOperation(r.operation, inputs, r.params, ctx)
  } catch (e) {
    throw r.file ? inFile(r.file.name, e) : e
  }
  const milliseconds = performance.now() - start
  const op = operation(r.operation)
  const made: MadeItem[] = []
  for (const [name, items] of Object.entries(result.outputs))
    for (let i = 0; i < items.length; i++) made.push({ port: name, place: i, item: items[i], display: {} })
  for (const m of made) {
    const { data } = m.item
    if (data.kind === 'field') continue
    if (data.kind === 'markers') {
      // few numbers: the browser gets them all
      m.display = packValue(data).arrays
      continue
    }
    // a pose moved, the points did not: the display level is known already
    const replaced = op.outputs[m.port]?.replaces
    const before = replaced ? r.inputs[replaced]?.[m.place] : undefined
    if (before && before.data.kind === data.kind && sameData(before, m.item)) continue
    const { xyz, ...level } = data.kind === 'mesh' ? await meshLevel(data) : await shaded(pointsLevel(data), data.viewpoint, ctx)
    m.display = { ...(data.kind === 'mesh' ? { vertices: xyz } : { xyz }), ...(level as Arrays) }
  }
  for (const m of made) {
    const { data } = m.item
    if (data.kind !== 'field') continue
    const on = op.outputs[m.port]?.on ?? ''
    const own = made.find((o) => o.port === on && o.place === m.place)?.display['map']
    const map = own ?? r.shown[on]?.[m.place] ?? null
    const at = result.outputs[on]?.[m.place] ?? r.inputs[on]?.[m.place]
    const xyz = at && (at.data.kind === 'mesh' ? at.data.vertices : at.data.kind === 'points' ? at.data.xyz : undefined)
    // a level of detail may not make a part look better than it is
    m.display = { values: map instanceof Uint32Array && xyz ? fieldLevel(data.values, map, xyz, Number(r.params['limit'] ?? Infinity)) : data.values }
  }
  if (r.preview)
    for (const m of made) {
      const replaced = op.outputs[m.port]?.replaces
      const before = replaced ? r.inputs[replaced]?.[m.place] : undefined
      const map = replaced ? r.shown[replaced]?.[m.place] : undefined
      if (before && map && before.data.kind === 'points' && m.item.data.kind === 'points')
        m.display = { gone: goneFlags(before.data.xyz, m.item.data.xyz, map) }
    }
  const picture = r.picture
    ? await paint(
        made.map((m) => ({ item: m.item, display: m.display })),
        Object.values(r.inputs).flat(),
        { limit: Number(r.params['limit'] ?? 0.1), scale: Number(r.params['scale'] ?? 1) },
      )
    : null
  say({ id: r.id, kind: 'done', made, evidence: result.evidence, picture, milliseconds })
}

/** Points without normals get some for the screen: a surface is read by its shading. */
async function shaded(level: DisplayLevel, viewpoint: readonly [number, number, number] | undefined, ctx: RunContext): Promise<DisplayLevel> {
  if (level.normals || level.xyz.length < 90) return level
  const r = await estimateNormals(makePoints({ xyz: level.xyz, viewpoint }), {}, { ...ctx, progress: () => undefined })
  return { ...level, normals: r.points.normals }
}

function sameData(a: Item, b: Item): boolean {
  if (a.data.kind === 'points' && b.data.kind === 'points') return a.data.xyz.buffer === b.data.xyz.buffer && a.data.normals?.buffer === b.data.normals?.buffer
  if (a.data.kind === 'mesh' && b.data.kind === 'mesh')
    return a.data.vertices.buffer === b.data.vertices.buffer && a.data.triangles.buffer === b.data.triangles.buffer
  return false
}

/** 1 for each shown point that is not in the result. The result holds some of the points, in their order. */
function goneFlags(before: Float32Array, after: Float32Array, map: Uint32Array): Uint8Array {
  const kept = new Uint8Array(before.length / 3)
  for (let i = 0, o = 0; i < before.length && o < after.length; i += 3)
    if (before[i] === after[o] && before[i + 1] === after[o + 1] && before[i + 2] === after[o + 2]) {
      kept[i / 3] = 1
      o += 3
    }
  const gone = new Uint8Array(new SharedArrayBuffer(map.length))
  for (let i = 0; i < map.length; i++) gone[i] = 1 - kept[map[i]]
  return gone
}
