import { OakError } from '../base/errors.ts'
import type { RowGrid } from '../space/rowgrid.ts'
import { CODE } from './code.ts'

/**
 * The vector kernels of core/simd (SIMD WebAssembly), one machine a thread. A machine has its own memory: what the kernels
 * read is copied in once and stays until something else is asked for; copying costs a millisecond per megabyte,
 * the kernels then run three to five times faster than the same loops in JavaScript (docs/benchmarks.md).
 */
export interface Kernels {
  readonly memory: WebAssembly.Memory
  heap(): number
  setRows(x: number, y: number, z: number, starts: number, ny: number, nz: number, cell: number, oy: number, oz: number): void
  planes(start: number, end: number, r: number, normals: number, sigmas: number): void
  edges(start: number, end: number, r: number, noise: number, limit: number, nx: number, ny: number, nz: number, s: number, out: number, adopted: number): void
  setField(
    nx: number,
    ny: number,
    nz: number,
    weights: number,
    counts: number,
    cell: number,
    slack: number,
    radius: number,
    small: number,
    border: number,
    low: number,
    high: number,
  ): void
  field(n: number, blocks: number, rows: number, values: number, ox: number, oy: number, oz: number): void
  surfaceAt(n: number, places: number, out: number): void
  nodeBytes(groups: number): number
  setTriangles(groups: number, n: number, nodes: number): void
  closestTriangles(n: number, places: number, bound2: number, out: number): void
  fitPlane(x: number, y: number, z: number, r: number): void
  readonly count: WebAssembly.Global<'i32'>
  readonly cx: WebAssembly.Global<'f64'>
  readonly cy: WebAssembly.Global<'f64'>
  readonly cz: WebAssembly.Global<'f64'>
  readonly nx: WebAssembly.Global<'f64'>
  readonly ny: WebAssembly.Global<'f64'>
  readonly nz: WebAssembly.Global<'f64'>
  readonly sigma: WebAssembly.Global<'f64'>
  readonly breadth: WebAssembly.Global<'f64'>
  setWeights(at: number): void
  neighbours(start: number, end: number, r: number, out: number): void
  fitSurface(x: number, y: number, z: number, r: number, nx: number, ny: number, nz: number): void
  fitStrip(x: number, y: number, z: number, r: number, nx: number, ny: number, nz: number, band: number): void
  surfaceFound(): number
}

let compiled: WebAssembly.Module | undefined
let kernels: Kernels | undefined
let found: Float64Array | undefined
let top = 0

/** The kernels of this thread. */
export function machine(): Kernels {
  if (!kernels) {
    compiled ??= new WebAssembly.Module(Uint8Array.from(atob(CODE), (c) => c.charCodeAt(0)))
    const abort = () => {
      throw new Error('vector kernel stopped')
    }
    kernels = new WebAssembly.Instance(compiled, { env: { abort } }).exports as unknown as Kernels
    top = kernels.heap()
  }
  return kernels
}

/** The ten numbers that fitSurface and fitStrip leave behind. */
export function surfaceFound(): Float64Array {
  const m = machine()
  // growing memory makes views stale
  if (found?.buffer !== m.memory.buffer) found = new Float64Array(m.memory.buffer, m.surfaceFound(), 10)
  return found
}

/** A machine's memory never shrinks: one that has grown beyond this is given back when something else is loaded, bytes. */
const KEPT = 2 ** 29

/**
 * Room for so many bytes in the machine's memory; its address, up to 4 GiB. Lives until the next `resident` that has to load.
 * Throws OakError 'out-of-memory' beyond that, and where the host has no more.
 */
export function room(bytes: number): number {
  const m = machine()
  const at = top
  const end = Math.ceil((at + bytes) / 64) * 64
  const missing = end - m.memory.buffer.byteLength
  try {
    if (missing > 0) m.memory.grow(Math.ceil(missing / 65536))
  } catch (cause) {
    throw new OakError('out-of-memory', `The vector kernels can hold no ${(end / 1e9).toPrecision(2)} GB at once.`, {
      remedy: 'Divide the pass, or thin it first.',
      cause,
    })
  }
  top = end
  return at
}

/** The machine's memory as numbers. Any later `room` may make it stale. */
export const floatsAt = (at: number, n: number) => new Float32Array(machine().memory.buffer, at, n)
export const intsAt = (at: number, n: number) => new Int32Array(machine().memory.buffer, at, n)
export const bytesAt = (at: number, n: number) => new Uint8Array(machine().memory.buffer, at, n)

/** Copies an array in; its address. The four spare elements let a kernel read past the end: zeros, since what was there before may be no number. */
export function put(a: Float32Array | Uint32Array | Int32Array | Uint8Array): number {
  const at = room(a.byteLength + 16)
  const there = bytesAt(at, a.byteLength + 16)
  there.set(new Uint8Array(a.buffer, a.byteOffset, a.byteLength))
  there.fill(0, a.byteLength)
  return at
}

/** Copies the x, y, z triples of an array in as three arrays; their addresses. */
export function putApart(a: Float32Array): [number, number, number] {
  const n = a.length / 3
  const at: [number, number, number] = [room(4 * n + 16), room(4 * n + 16), room(4 * n + 16)]
  const [x, y, z] = at.map((p) => floatsAt(p, n + 4))
  for (let i = 0, o = 0; i < n; i++, o += 3) {
    x[i] = a[o]
    y[i] = a[o + 1]
    z[i] = a[o + 2]
  }
  for (const c of [x, y, z]) c.fill(0, n)
  return at
}

let held: { key: WeakRef<object>; value: unknown; scratch: number } | undefined

/**
 * What `load` put into the machine for `key`, loaded only when something else was there. Room taken after it is scratch:
 * it is free again at the next call.
 */
export function resident<T>(key: object, load: () => T): T {
  machine()
  if (held?.key.deref() === key) {
    top = held.scratch
    return held.value as T
  }
  held = undefined
  if (machine().memory.buffer.byteLength > KEPT) kernels = found = undefined
  top = machine().heap()
  const value = load()
  held = { key: new WeakRef(key), value, scratch: top }
  return value
}

/**
 * Loads the points of a grid for kernels that search it within `radius`; with the points' weights where they have some; for use inside of `resident`.
 * Throws RangeError when a ball would meet more rows than the kernels have room for.
 */
export function loadRows(grid: RowGrid & { weights?: Float32Array }, radius: number): void {
  checkRadius(grid, radius)
  const [x, y, z] = putApart(grid.xyz)
  machine().setRows(x, y, z, put(grid.start), grid.ny, grid.nz, grid.cell, grid.oy, grid.oz)
  machine().setWeights(grid.weights ? put(grid.weights) : 0)
}

/** The same when the points alone are needed. */
export function useRows(grid: RowGrid, radius: number): void {
  checkRadius(grid, radius)
  resident(grid, () => loadRows(grid, radius))
}

function checkRadius(grid: RowGrid, radius: number): void {
  if (radius > 15 * grid.cell) throw new RangeError(`a search radius of ${radius} is too large for rows of ${grid.cell}`)
}
