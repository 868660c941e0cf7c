import { useEffect } from 'react'
import { API, addressOf, type CaptureRun } from '@oak-gauge/contract'
import { growing, led } from '../../view/growing.ts'

/** ms between two looks at what has grown, and between those at all of it: how often a place was seen changes */
const EVERY = 700
const WHOLE = 5000
/** numbers a cube: middle, direction it was seen from, frames that saw it */
const PER = 7
/** seen so often, a place is known well */
const ENOUGH = 12
const SPARSE = [196, 178, 148]
const SOLID = [94, 59, 27]

/** Shows the model of a recording on the stage as it grows, the darker, the oftener a place was seen; and the scanner that is led, or where it is to be led back to. */
export function useModel(id: string, run: Pick<CaptureRun, 'surface' | 'spacing' | 'scanner' | 'ghost' | 'range'>): void {
  const { version } = run.surface
  const { spacing, scanner, ghost, range } = run
  useEffect(() => led.set({ scanner, ghost, distance: range.ideal }), [scanner, ghost, range.ideal])
  useEffect(() => () => led.set(null), [])
  useEffect(() => {
    const stop = new AbortController()
    void (async () => {
      let cubes = new Float32Array(0)
      let whole = 0
      let n = 0
      while (!stop.signal.aborted) {
        try {
          const all = performance.now() - whole > WHOLE
          if (all) whole = performance.now()
          const from = all ? 0 : cubes.length / PER
          const r = await fetch(addressOf(API.captured, { id }, { version: String(version), from: String(from) }), { signal: stop.signal })
          if (r.status !== 200) return
          const more = new Float32Array(await r.arrayBuffer())
          if (more.length) {
            const next = new Float32Array(PER * from + more.length)
            next.set(cubes.subarray(0, PER * from))
            next.set(more, PER * from)
            cubes = next
            show(cubes, spacing, `recording ${version} ${n++}`)
          }
        } catch {
          // asked again
        }
        await new Promise((resolve) => setTimeout(resolve, EVERY))
      }
    })()
    return () => {
      stop.abort()
      growing.set(null)
    }
  }, [id, version, spacing])
}

function show(cubes: Float32Array, spacing: number, id: string): void {
  const n = cubes.length / PER
  const xyz = new Float32Array(3 * n)
  const normals = new Float32Array(3 * n)
  const colours = new Uint8Array(3 * n)
  for (let i = 0; i < n; i++) {
    const share = Math.min(1, cubes[PER * i + 6] / ENOUGH)
    for (let k = 0; k < 3; k++) {
      xyz[3 * i + k] = cubes[PER * i + k]
      normals[3 * i + k] = cubes[PER * i + 3 + k]
      colours[3 * i + k] = SPARSE[k] + share * (SOLID[k] - SPARSE[k])
    }
  }
  growing.set({
    id,
    slot: 'recording',
    kind: 'points',
    spacing,
    count: n,
    pose: [1, 0, 0, 0, 0, 1, 0, 0, 0, 0, 1, 0, 0, 0, 0, 1],
    colour: [158, 141, 117],
    tinted: true,
    arrays: { xyz, normals, colours },
    faces: false,
    ghost: false,
    values: null,
    gone: null,
  })
}
