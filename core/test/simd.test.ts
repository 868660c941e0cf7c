import { execFileSync } from 'node:child_process'
import { jacobiEigen } from '../src/base/eigen.ts'
import { seeded } from '../src/base/random.ts'
import { quietContext } from '../src/base/run.ts'
import { f32, u8 } from '../src/base/arrays.ts'
import { deviationTo } from '../src/inspect/deviation.ts'
import { fieldKernel } from '../src/merge/field.ts'
import { mergePasses } from '../src/merge/merge.ts'
import { localPlane, newLocalPlane } from '../src/shape/localplane.ts'
import { floatsAt, loadRows, machine, resident, room } from '../src/simd/machine.ts'
import { buildRowGrid } from '../src/space/rowgrid.ts'
import { oakError, randomPoints } from './help.ts'
import { cube, place } from './shapes.ts'

/** Noisy points on z = 0.2 x + 0.05 y^2 over a square, about 0.25 mm apart. */
function bowl(seed: number, side = 10): Float32Array {
  const r = seeded(seed)
  const xyz = f32(3 * Math.round((side / 0.25) ** 2))
  for (let i = 0; i < xyz.length; i += 3) {
    const x = side * (r.next() - 0.5)
    const y = side * (r.next() - 0.5)
    xyz[i] = x + 100
    xyz[i + 1] = y - 50
    xyz[i + 2] = 0.2 * x + 0.05 * y * y + 0.01 * r.gauss() + 300
  }
  return xyz
}

test('the compiled kernels are those of core/simd', () => {
  execFileSync('node', ['tools/simd.mjs', '--check'], { cwd: new URL('../..', import.meta.url).pathname })
})

describe('local plane against the same by plain sums and Jacobi rotations (Golub and Van Loan 8.5)', () => {
  const clouds: [string, Float32Array, number][] = [
    ['a surface', bowl(1), 1],
    ['a heap', randomPoints(3000, 20, 4), 2.2],
    ['rows of fewer points than four', randomPoints(40, 20, 9), 9],
  ]
  test.each(clouds)('%s', (_name, xyz, radius) => {
    const grid = buildRowGrid(xyz, radius)
    const plane = newLocalPlane()
    const r = seeded(2)
    for (let k = 0; k < 150; k++) {
      const c = 3 * Math.floor((r.next() * xyz.length) / 3)
      const q = [0, 1, 2].map((a) => Math.fround(xyz[c + a] + 0.3 * r.gauss()))
      // the kernel compares in single precision: radii at which no point lies within rounding of the ball
      const d = Array.from({ length: xyz.length / 3 }, (_, i) => Math.hypot(xyz[3 * i] - q[0], xyz[3 * i + 1] - q[1], xyz[3 * i + 2] - q[2]))
      if (d.some((v) => Math.abs(v - radius) < 1e-5)) continue
      localPlane(grid, q[0], q[1], q[2], radius, plane)
      const near = d.flatMap((v, i) => (v <= radius ? [i] : []))
      expect(plane.count).toBe(near.length)
      if (near.length < 4) continue
      const mean = [0, 1, 2].map((a) => near.reduce((s, i) => s + xyz[3 * i + a], 0) / near.length)
      const cov = [0, 1, 2].flatMap((a) =>
        [0, 1, 2].map((b) => near.reduce((s, i) => s + (xyz[3 * i + a] - mean[a]) * (xyz[3 * i + b] - mean[b]), 0) / near.length),
      )
      const e = jacobiEigen(cov, 3)
      const n = [0, 1, 2].map((a) => e.vectors[3 * a])
      expect(plane.cx).toBeCloseTo(mean[0], 5)
      expect(plane.cz).toBeCloseTo(mean[2], 5)
      expect(plane.sigma).toBeCloseTo(Math.sqrt((Math.max(0, e.values[0]) * near.length) / (near.length - 3)), 5)
      if (e.values[1] - e.values[0] > 0.01 * e.values[2]) {
        expect(Math.abs(plane.nx * n[0] + plane.ny * n[1] + plane.nz * n[2])).toBeCloseTo(1, 8)
        expect(plane.breadth).toBeCloseTo(e.values[1] / e.values[2], 5)
      }
    }
  })

  test('points on a line: a unit normal across it', () => {
    const xyz = Float32Array.from({ length: 60 }, (_, i) => 0.1 * Math.floor(i / 3) * [1, 2, -1][i % 3])
    const plane = newLocalPlane()
    localPlane(buildRowGrid(xyz, 1), 0.5, 1, -0.5, 1, plane)
    expect(plane.count).toBeGreaterThan(5)
    expect(plane.nx ** 2 + plane.ny ** 2 + plane.nz ** 2).toBeCloseTo(1, 6)
    expect(plane.nx + 2 * plane.ny - plane.nz).toBeCloseTo(0, 3)
  })
  test('places far outside, and a radius that meets too many rows', () => {
    const grid = buildRowGrid(bowl(3), 1)
    const plane = newLocalPlane()
    for (const x of [-1e6, 1e12, 3e38]) {
      localPlane(grid, x, x, -x, 1, plane)
      expect(plane.count).toBe(0)
    }
    expect(() => localPlane(grid, 100, -50, 300, 16, plane)).toThrow(RangeError)
  })
})

describe('distance field against its formula written out', () => {
  const source = (normalOf: (i: number) => number[]) => {
    const xyz = bowl(7, 6)
    const grid = buildRowGrid(xyz, 0.84)
    const n = grid.ids.length
    const normals = f32(3 * n)
    const r = seeded(3)
    const weights = f32(n).map(() => 0.2 + r.next())
    const counts = f32(n).map(() => 1 + Math.floor(3 * r.next()))
    for (let i = 0; i < n; i++) normals.set(normalOf(i), 3 * i)
    return { grid, normals, weights, counts, radius: 0.84, smallRadius: 0.588, cell: 0.3, slack: 0.1 }
  }
  const smooth = (i: number, y: number) => {
    void i
    const l = Math.hypot(0.2, 0.1 * y, 1)
    return [-0.2 / l, (-0.1 * y) / l, 1 / l]
  }

  /** Symmetric implicit moving least squares, one sum after the other. */
  function plain(s: ReturnType<typeof source>, x: number[]): number {
    const p = s.grid.xyz
    const all = Array.from({ length: s.grid.ids.length }, (_, i) => i)
    const d = (i: number) => [0, 1, 2].map((k) => x[k] - p[3 * i + k])
    const d2 = (i: number) => d(i).reduce((a, v) => a + v * v, 0)
    const n = (i: number) => [...s.normals.subarray(3 * i, 3 * i + 3)]
    const dot = (a: number[], b: number[]) => a[0] * b[0] + a[1] * b[1] + a[2] * b[2]
    const inside = all.filter((i) => d2(i) < s.radius ** 2)
    if (!inside.length) return NaN
    const near = inside.reduce((a, b) => (d2(b) < d2(a) ? b : a))
    const a = n(near)
    if (Math.abs(dot(a, d(near))) > (Math.abs(a[0]) + Math.abs(a[1]) + Math.abs(a[2])) * 1.05 * s.cell + s.slack) return NaN
    const agreeing = inside.filter((i) => dot(n(i), a) >= 0.4)
    if (agreeing.reduce((c, i) => c + s.counts[i], 0) < 4) return NaN
    const at = (r: number) => {
      let [w, f] = [0, 0]
      const nn = [0, 0, 0]
      const dd = [0, 0, 0]
      for (const i of agreeing) {
        if (d2(i) >= r * r) continue
        const g = Math.min(1, 2 * (dot(n(i), a) - 0.4))
        const wi = s.weights[i] * g * g * (1 - d2(i) / (r * r)) ** 2
        w += wi
        f += wi * dot(n(i), d(i))
        for (let k = 0; k < 3; k++) {
          nn[k] += wi * n(i)[k]
          dd[k] += wi * d(i)[k]
        }
      }
      const l = Math.hypot(...nn)
      const u = nn.map((v) => v / l)
      const c = dd.map((v) => v / w)
      const h = dot(u, c)
      return { value: 0.5 * (f / w + h), coherence: l / w, beside: Math.hypot(...c.map((v, k) => v - h * u[k])), w }
    }
    const large = at(s.radius)
    if (large.beside > 0.34 * s.radius) return NaN
    const t = Math.max(0, Math.min(1, (large.coherence - 0.99) / 0.008))
    if (t >= 1) return large.value
    const small = at(s.smallRadius)
    return small.w > 0 ? t * large.value + (1 - t) * small.value : large.value
  }

  test.each([
    ['a smooth surface', (i: number, y: number) => smooth(i, y)],
    ['normals of an edge', (i: number, y: number, x: number) => (x > 0 ? smooth(i, y) : [0.9, 0, Math.sqrt(1 - 0.81)])],
  ])('%s', (_name, of) => {
    const s = source(() => [0, 0, 1])
    for (let i = 0; i < s.grid.ids.length; i++) s.normals.set(of(i, s.grid.xyz[3 * i + 1] + 50, s.grid.xyz[3 * i] - 100), 3 * i)
    const blocks = Int32Array.of(0, 0, 0, 1, 0, 0, -1, 1, 0)
    const values = f32(512 * 3)
    const origin = [99.1, -51.2, 299.1] as const
    fieldKernel.run({ ...s, origin, blocks, rows: u8(64 * 3).fill(255), values }, 0, 3)
    let known = 0
    for (let b = 0; b < 3; b++)
      for (let node = 0; node < 512; node += 3) {
        const x = [node & 7, (node >> 3) & 7, node >> 6].map((v, k) => origin[k] + 0.3 * (8 * blocks[3 * b + k] + v))
        const want = plain(s, x)
        const got = values[512 * b + node]
        // what stands within rounding of a limit may fall either way
        if (Number.isNaN(want) !== Number.isNaN(got)) continue
        if (Number.isNaN(want)) continue
        known++
        expect(got).toBeCloseTo(want, 4)
      }
    expect(known).toBeGreaterThan(120)
  })

  test('nodes that are not marked stay unknown', () => {
    const s = source(() => [0, 0, 1])
    const values = f32(512)
    fieldKernel.run({ ...s, origin: [99.1, -51.2, 299.1], blocks: Int32Array.of(0, 0, 0), rows: u8(64), values }, 0, 1)
    expect([...values].every((v) => Number.isNaN(v))).toBe(true)
  })
})

test('the kernels keep what is loaded until something else is asked for', () => {
  const a = {}
  const b = {}
  let loads = 0
  const use = (key: object) =>
    resident(key, () => {
      loads++
      return room(1000)
    })
  const first = use(a)
  const scratch = room(64)
  expect(use(a)).toBe(first)
  expect(loads).toBe(1)
  // scratch is free again
  expect(room(64)).toBe(scratch)
  use(b)
  use(a)
  expect(loads).toBe(3)
  expect(quietContext.parallel.threads).toBe(1)
})

test('what lay in the machine’s memory before makes no difference', async () => {
  const part = place(cube(8, 0.4))
  const run = async () => {
    const { mesh } = await mergePasses([part], { cell: 0.5 }, quietContext)
    const d = await deviationTo(
      mesh,
      bowl(4).map((v, i) => v - [96, -54, 296][i % 3]),
      50,
      quietContext,
    )
    return [...mesh.vertices, ...d.values]
  }
  const poison = (value: number) =>
    resident({}, () => {
      const n = 1 << 21
      floatsAt(room(4 * n), n).fill(value)
    })
  poison(Number.NaN)
  const a = await run()
  poison(Infinity)
  const b = await run()
  poison(0)
  const c = await run()
  expect(a.length).toBeGreaterThan(3000)
  expect(b.every((v, i) => Object.is(v, a[i]))).toBe(true)
  expect(c.every((v, i) => Object.is(v, a[i]))).toBe(true)
})

describe('the memory of the kernels', () => {
  const planeAt = (below: number) => {
    const grid = buildRowGrid(bowl(3), 1)
    const q = newLocalPlane()
    // what lies below is never touched: pages of zeros that cost nothing
    resident(grid, () => {
      if (below) room(below)
      loadRows(grid, 1)
    })
    localPlane(grid, 101, -49, 300.25, 0.9, q)
    return { ...q }
  }
  test('beyond 2 GiB they give the same numbers', () => {
    expect(planeAt(2_300_000_000)).toEqual(planeAt(0))
    expect(machine().memory.buffer.byteLength).toBeLessThan(2 ** 29)
  })
  test('what has grown large is given back when something else is loaded', () => {
    planeAt(700_000_000)
    expect(machine().memory.buffer.byteLength).toBeGreaterThan(7e8)
    planeAt(0)
    expect(machine().memory.buffer.byteLength).toBeLessThan(2e8)
  })
  test('beyond 4 GiB there is an error of ours, and afterwards all is as before', async () => {
    const before = planeAt(0)
    const e = await oakError(Promise.resolve().then(() => planeAt(4_400_000_000)))
    expect([e.code, e.remedy]).toEqual(['out-of-memory', 'Divide the pass, or thin it first.'])
    expect(planeAt(0)).toEqual(before)
  })
})
