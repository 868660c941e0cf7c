import Papa from 'papaparse'
import { z } from 'zod'
import { OakError } from '../base/errors.ts'
import { turned } from '../markers/levelled.ts'
import { buildKdTree, nearestK } from '../space/kdtree.ts'
import { makeMarkers, worstUncertainty, type Markers } from '../markers/markers.ts'
import type { MarkerFrame } from '../markers/sight.ts'
import { stereoSchema } from '../scanner/spec.ts'
import { MM_PER, type Unit } from './imported.ts'

/** Marker sets as a table: id, x, y, z, diameter, uncertainty (standard, worst direction), normal; mm in the job, decimal point. */
export function writePlacedMarkers(set: Markers, pose: ArrayLike<number>): string {
  const m = turned(set, pose)
  const rows = m.ids.map((id, i) => {
    const u = worstUncertainty(m.covariance, i)
    const at = Array.from(m.positions.subarray(3 * i, 3 * i + 3))
    const n = Array.from(m.normals.subarray(3 * i, 3 * i + 3))
    const known = m.normals[3 * i] !== 0 || m.normals[3 * i + 1] !== 0 || m.normals[3 * i + 2] !== 0
    return [
      /[",;\s]/.test(id) ? `"${id.replaceAll('"', '""')}"` : id,
      ...at.map((v) => v.toFixed(4)),
      m.diameters[i] > 0 ? m.diameters[i].toFixed(2) : '',
      Number.isNaN(u) ? '' : u.toFixed(5),
      ...n.map((v) => (known ? v.toFixed(5) : '')),
    ].join(',')
  })
  return ['id,x_mm,y_mm,z_mm,diameter_mm,uncertainty_mm,nx,ny,nz', ...rows, ''].join('\n')
}

interface Columns {
  id?: number | undefined
  x: number
  y: number
  z: number
  diameter?: number | undefined
  uncertainty: number[]
  normal?: number[] | undefined
}

/** distances between neighbours that markers have in practice, mm */
const PLAUSIBLE_GAP = [8, 1500]
/** nearer than this two markers would overlap, mm */
const OVERLAP = 1.5

/**
 * Reads a list of markers: our own table, or a plain list of coordinates as photogrammetry gives it: id x y z, with or without header, diameter
 * and uncertainties (one, or one for each axis), separated by comma, semicolon, tab or blanks, comments after #, % or //.
 * unit 'auto': as the header says, else mm where distances between neighbours are plausible. Throws 'bad-list' (line and column),
 * 'duplicate-id', 'unit-unknown', 'too-few-markers', 'double'.
 */
export function readMarkers(text: string, name: string, unit: Unit | 'auto' = 'auto'): { markers: Markers; unit: Unit; warnings: string[] } {
  const lines = text
    .replace(/^\uFEFF/, '')
    .split(/\r\n?|\n/)
    .map((line, i) => ({ line: line.replace(/(#|%|\/\/).*$/, '').trim(), number: i + 1 }))
    .filter((l) => l.line !== '')
  if (!lines.length) throw new OakError('bad-list', 'The file holds no markers.', { where: name, remedy: 'One marker a line: id, x, y, z.' })
  const separator = lines.some((l) => l.line.includes(';'))
    ? ';'
    : lines.some((l) => l.line.includes('\t'))
      ? '\t'
      : /,/.test(lines[0].line) && !/\d,\d+\s/.test(lines[0].line)
        ? ','
        : ' '
  const cells = (line: string) =>
    (separator === ' ' ? line.split(/\s+/) : (Papa.parse<string[]>(line, { delimiter: separator }).data.at(0) ?? [])).map((c) => c.trim())
  const number = (c: string | undefined) => {
    const t = separator !== ',' && c !== undefined && /^[+-]?\d+,\d+$/.test(c) ? c.replace(',', '.') : c
    return t === undefined || t === '' ? NaN : Number(t)
  }
  const first = cells(lines[0].line)
  const hasHeader = first.filter((c) => !Number.isNaN(number(c))).length < 3
  const { columns, said } = hasHeader ? byHeader(first, name) : { columns: byCount(first, number), said: undefined }
  const ids: string[] = []
  const at: number[] = []
  const diameters: number[] = []
  const covariance: number[] = []
  const normals: number[] = []
  const seen = new Map<string, number>()
  lines.slice(hasHeader ? 1 : 0).forEach(({ line, number: lineNumber }) => {
    const c = cells(line)
    const value = (k: number | undefined, what: string, needed = true): number => {
      const v = k === undefined ? NaN : number(c[k])
      if (needed && !Number.isFinite(v))
        throw new OakError('bad-list', `“${k === undefined ? '' : (c[k] ?? '')}” is not a number for ${what}.`, {
          where: `${name}, line ${lineNumber}`,
          remedy: 'Correct the line: id, x, y, z, with a decimal point.',
        })
      return v
    }
    const id = columns.id === undefined ? String(ids.length + 1) : (c[columns.id] ?? '')
    const before = seen.get(id)
    if (before !== undefined)
      throw new OakError('duplicate-id', `The id “${id}” stands in lines ${before} and ${lineNumber}.`, {
        where: name,
        remedy: 'Give each marker an id of its own.',
      })
    seen.set(id, lineNumber)
    ids.push(id)
    at.push(value(columns.x, 'x'), value(columns.y, 'y'), value(columns.z, 'z'))
    const d = value(columns.diameter, 'the diameter', false)
    diameters.push(d > 0 ? d : 0)
    const u = columns.uncertainty.map((k) => value(k, 'the uncertainty', false)).map((v) => (v > 0 ? v : 0))
    covariance.push((u[0] ?? 0) ** 2, 0, 0, (u[1] ?? u[0] ?? 0) ** 2, 0, (u[2] ?? u[0] ?? 0) ** 2)
    const n = columns.normal?.map((k) => value(k, 'the normal', false)) ?? []
    normals.push(...(n.length === 3 && n.every(Number.isFinite) ? n : [0, 0, 0]))
  })
  if (ids.length < 3) throw new OakError('too-few-markers', `The list holds ${ids.length} markers.`, { where: name, remedy: 'A map needs four at the least.' })
  const warnings: string[] = []
  const { gaps, closest } = neighbours(at)
  const gap = gaps.sort((a, b) => a - b)[gaps.length >> 1]
  const used: Unit = unit === 'auto' ? (said ?? 'mm') : unit
  if (unit === 'auto' && !said && (gap < PLAUSIBLE_GAP[0] || gap > PLAUSIBLE_GAP[1])) {
    const inches = gap * 25.4 > 15 && gap * 25.4 < 300
    throw new OakError(
      'unit-unknown',
      `Neighbouring markers lie ${gap.toPrecision(3)} units apart${inches ? `: as inches that would be ${(gap * 25.4).toFixed(0)} mm` : ''}.`,
      {
        where: name,
        remedy: 'Say the unit of the list: mm, cm, m, in, ft or um.',
      },
    )
  }
  const k = MM_PER[used]
  const positions = at.map((v) => v * k)
  const m = makeMarkers({ ids, positions, diameters: diameters.map((d) => d * k), covariance: covariance.map((c) => c * k * k), normals })
  if (closest.distance * k < OVERLAP)
    throw new OakError('double', `Markers ${ids[closest.a]} and ${ids[closest.b]} are ${(closest.distance * k).toFixed(2)} mm apart: they would overlap.`, {
      where: name,
      remedy: 'Take one of them out of the list.',
    })
  if (ids.length < 4) warnings.push('Three markers are the bare least: hide one and tracking ends.')
  return { markers: m, unit: used, warnings }
}

function byHeader(head: string[], name: string): { columns: Columns; said: Unit | undefined } {
  const plain = head.map((h) =>
    h
      .toLowerCase()
      .replace(/[[\]()]/g, ' ')
      .trim(),
  )
  const find = (...names: RegExp[]) => plain.findIndex((h) => names.some((n) => n.test(h)))
  const optional = (k: number) => (k < 0 ? undefined : k)
  const [x, y, z] = ['x', 'y', 'z'].map((a) => find(new RegExp(`^${a}([ _]|$)`)))
  if (x < 0 || y < 0 || z < 0)
    throw new OakError('bad-list', `The header names no columns x, y, z: ${head.join(', ')}.`, { where: `${name}, line 1`, remedy: 'Name them x, y and z.' })
  const each = ['x', 'y', 'z'].map((a) => find(new RegExp(`^(s|sd|sigma|std|u)[ _]?${a}`)))
  const one = find(/^(uncertainty|sigma|std|u)([ _]|$)/)
  const normal = ['x', 'y', 'z'].map((a) => find(new RegExp(`^n(ormal)?[ _]?${a}`)))
  const unit = /[ _](mm|cm|m|in|ft|um)$/.exec(plain[x])?.[1] as Unit | undefined
  return {
    columns: {
      id: optional(find(/^(id|name|no|nr|number|point|marker)([ _.]|$)/)),
      x,
      y,
      z,
      diameter: optional(find(/^(d|dia|diameter|size)([ _]|$)/)),
      uncertainty: each.every((k) => k >= 0) ? each : one >= 0 ? [one] : [],
      normal: normal.every((k) => k >= 0) ? normal : undefined,
    },
    said: unit,
  }
}

/** Without a header: x y z · id x y z · id x y z d · id x y z d u · id x y z sx sy sz */
function byCount(first: string[], number: (c: string | undefined) => number): Columns {
  const n = first.length
  if (n === 3) return { x: 0, y: 1, z: 2, uncertainty: [] }
  const own = { id: 0, x: 1, y: 2, z: 3 }
  if (n >= 7 && first.slice(1, 7).every((c) => Number.isFinite(number(c)))) return { ...own, uncertainty: [4, 5, 6] }
  return { ...own, ...(n >= 5 ? { diameter: 4 } : {}), uncertainty: n >= 6 ? [5] : [] }
}

/** For each marker the distance to its nearest neighbour, and the two that lie nearest to one another. */
function neighbours(p: number[]): { gaps: number[]; closest: { a: number; b: number; distance: number } } {
  // relative to the first, so that single precision does for the tree
  const near = Float32Array.from(p, (v, i) => v - p[i % 3])
  const tree = buildKdTree(near)
  const ids = new Int32Array(2)
  const d2 = new Float64Array(2)
  const gaps: number[] = []
  let closest = { a: 0, b: 1, distance: Infinity }
  for (let i = 0; i < p.length / 3; i++) {
    nearestK(tree, near[3 * i], near[3 * i + 1], near[3 * i + 2], 2, ids, d2)
    const own = ids[0] === i ? 1 : 0
    const j = ids[own]
    const distance = Math.hypot(p[3 * i] - p[3 * j], p[3 * i + 1] - p[3 * j + 1], p[3 * i + 2] - p[3 * j + 2])
    gaps.push(distance)
    if (distance < closest.distance) closest = { a: Math.min(i, j), b: Math.max(i, j), distance }
  }
  return { gaps, closest }
}

/** A recording of markers, as a file; written by Oak Gauge, and simple enough for anybody. See docs/formats.md. */
export const markerRecording = z.object({
  format: z.literal('oak-gauge marker frames'),
  version: z.literal(1),
  scanner: z.string().default(''),
  calibration: z.string().default(''),
  /** with it each direction is weighted by how well the cameras see it */
  optics: stereoSchema.nullable().default(null),
  range: z.object({ near: z.number().positive(), far: z.number().positive() }).nullable().default(null),
  /** relative standard uncertainty of lengths, from the calibration */
  scale: z.number().min(0).max(0.1).default(0),
  /** time in ms; x, y, z, diameter of each marker, mm */
  frames: z.array(z.object({ time: z.number(), markers: z.array(z.number()) })),
})
export type MarkerRecording = z.output<typeof markerRecording>

/** Reads a recording: our JSON, or a table with columns frame, x, y, z and diameter (optional), mm. Throws 'bad-recording'. */
export function readMarkerRecording(text: string, name: string): Omit<MarkerRecording, 'frames'> & { frames: MarkerFrame[] } {
  if (/^\s*\{/.test(text)) {
    let json: unknown
    try {
      json = JSON.parse(text)
    } catch (e) {
      throw new OakError('bad-recording', `The recording cannot be read: ${(e as Error).message}`, { where: name, remedy: 'Record or export it again.' })
    }
    const r = markerRecording.safeParse(json)
    if (!r.success)
      throw new OakError('bad-recording', r.error.issues[0]?.message ?? '', {
        where: `${name}, ${r.error.issues[0]?.path.join('.') ?? ''}`,
        remedy: 'Record or export it again.',
      })
    const wrong = r.data.frames.findIndex((f) => f.markers.length % 4 !== 0)
    if (wrong >= 0)
      throw new OakError('bad-recording', `Frame ${wrong + 1} holds ${r.data.frames[wrong].markers.length} numbers, not four a marker.`, {
        where: name,
        remedy: 'x, y, z, diameter for each marker.',
      })
    return { ...r.data, frames: r.data.frames.map((f) => frameOf(f.time, f.markers)) }
  }
  const frames = new Map<number, number[]>()
  text.split(/\r\n?|\n/).forEach((line, i) => {
    const c = line.replace(/#.*$/, '').trim()
    if (c === '' || (i === 0 && /[a-z]/i.test(c))) return
    const v = c.split(/[,;\s]+/).map(Number)
    if (v.length < 4 || v.some((n) => !Number.isFinite(n)))
      throw new OakError('bad-recording', `“${c.slice(0, 60)}” is not a line of frame, x, y, z, diameter.`, {
        where: `${name}, line ${i + 1}`,
        remedy: 'Numbers with a decimal point, mm.',
      })
    const list = frames.get(v[0]) ?? []
    list.push(v[1], v[2], v[3], v[4] ?? 0)
    frames.set(v[0], list)
  })
  return {
    format: 'oak-gauge marker frames',
    version: 1,
    scanner: '',
    calibration: '',
    optics: null,
    range: null,
    scale: 0,
    frames: [...frames].sort(([a], [b]) => a - b).map(([n, list]) => frameOf(n * 50, list)),
  }
}

export function frameOf(time: number, list: ArrayLike<number>): MarkerFrame {
  const n = list.length / 4
  const xyz = new Float32Array(3 * n)
  const diameters = new Float32Array(n)
  for (let i = 0; i < n; i++) {
    for (let k = 0; k < 3; k++) xyz[3 * i + k] = list[4 * i + k]
    diameters[i] = list[4 * i + 3]
  }
  return { time, xyz, diameters }
}
