import { useEffect, useRef } from 'react'
import { API, addressOf, type CaptureRun } from '@oak-gauge/contract'
import { growing, led } from '../../view/growing.ts'

/** ms between two looks at what has grown, and between those at all of it: how often a place was seen changes */
const EVERY = 700
const WHOLE = 5000
/** slot of what grows */
export const RECORDING = 'recording'
/** numbers a cube: middle, direction it was seen from, frames that saw it */
const PER = 7
/** seen so often, a place is known well */
const ENOUGH = 12
const SPARSE = [196, 178, 148]
const SOLID = [94, 59, 27]

/** Shows the model of a recording on the stage as it grows, the darker, the oftener a place was seen; and the scanner that is led, or where it is to be led back to. */
export function useModel(id: string, run: Pick<CaptureRun, 'surface' | 'spacing' | 'scanner' | 'ghost' | 'next' | 'range' | 'map' | 'floor'>): void {
  const { version } = run.surface
  const { spacing, scanner, ghost, next, range } = run
  const apart = !run.map
  // what lies beneath the floor is another part of what is there already
  const { floor, raise, found } = run.floor
  const anew = useRef(false)
  useEffect(() => void (anew.current = true), [floor, raise, found?.beneath])
  useEffect(() => led.set({ scanner, ghost, next: next?.views ?? [], distance: range.ideal }), [scanner, ghost, next, range.ideal])
  useEffect(() => () => led.set(null), [])
  useEffect(() => {
    const stop = new AbortController()
    void (async () => {
      let cubes = new Float32Array(0)
      let whole = 0
      let n = 0
      while (!stop.signal.aborted) {
        try {
          const all = anew.current || performance.now() - whole > WHOLE
          anew.current = false
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
            show(cubes, spacing, apart, `recording ${version} ${n++}`)
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
  }, [id, version, spacing, apart])
}

/** A number that reaches all of n places when one goes on by it, round and round. */
function strewn(n: number): number {
  const common = (a: number, b: number): number => (b ? common(b, a % b) : a)
  let stride = Math.max(1, Math.round(n * 0.618))
  while (common(stride, n) > 1) stride++
  return stride
}

function show(cubes: Float32Array, spacing: number, apart: boolean, id: string): void {
  const all = cubes.length / PER
  // of some, nothing is left
  let n = 0
  for (let i = 0; i < all; i++) if (cubes[PER * i + 6] > 0) n++
  const xyz = new Float32Array(3 * n)
  const normals = new Float32Array(3 * n)
  const colours = new Uint8Array(3 * n)
  const map = new Uint32Array(n)
  // strewn over all that there is, as any beginning of it may be drawn alone
  const stride = strewn(all)
  for (let k = 0, i = 0, at = 0; k < all; k++, i = (i + stride) % all) {
    if (!(cubes[PER * i + 6] > 0)) continue
    const share = Math.min(1, cubes[PER * i + 6] / ENOUGH)
    for (let k = 0; k < 3; k++) {
      xyz[3 * at + k] = cubes[PER * i + k]
      normals[3 * at + k] = cubes[PER * i + 3 + k]
      colours[3 * at + k] = SPARSE[k] + share * (SOLID[k] - SPARSE[k])
    }
    map[at++] = i
  }
  growing.set({
    id,
    slot: RECORDING,
    kind: 'points',
    spacing,
    count: n,
    pose: [1, 0, 0, 0, 0, 1, 0, 0, 0, 0, 1, 0, 0, 0, 0, 1],
    colour: [158, 141, 117],
    tinted: true,
    apart,
    arrays: { xyz, normals, colours, map },
    faces: false,
    ghost: false,
    values: null,
    gone: null,
  })
}
