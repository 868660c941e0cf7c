import { PERCHES, type Markers } from '@oak-gauge/core/markers/markers.ts'
import { PERCH_QUANTITY } from '@oak-gauge/core/operations/plan-markers.ts'
import { wordsOf } from '@oak-gauge/core/operations/quantities.ts'
import { triangleNormal, type Mesh } from '@oak-gauge/core/shape/mesh.ts'
import { INK, MM, OAK, openPdf, SOFT } from '../pdf.ts'

/** A flat face of the part with the markers on it, in its own plane. */
interface Face {
  markers: number[]
  normal: [number, number, number]
  /** axes of the paper: to the right, up */
  u: [number, number, number]
  v: [number, number, number]
  /** outline: x, y, x, y of each edge, mm */
  edges: number[]
  box: [number, number, number, number]
}

const FLAT = 0.9985
const THICK = 1
/** printable part of an A4 page, mm */
const WIDE = 180
const HIGH = 245
const MOST_SHEETS = 12

/** Where markers go, to take to the part: a list, then each flat face at 1:1, over several pages where it is larger than the paper. Everything in job coordinates. */
export function placementSheet(job: { title: string; part: string }, m: Markers, part: Mesh | null): PDFKit.PDFDocument {
  const pdf = openPdf(`Markers for ${job.title}`)
  pdf.fillColor(OAK).font('bold').fontSize(11).text('Oak Gauge')
  pdf.fillColor(INK).fontSize(20).text(`Markers for ${job.title}`)
  const count = (d: number) => Array.from(m.diameters).filter((x) => Math.abs(x - d) < 0.5).length
  pdf
    .font('text')
    .fontSize(10)
    .fillColor(SOFT)
    .text(`${job.part ? `${job.part}. ` : ''}${m.ids.length} markers: ${count(3)} of 3 mm, ${count(6)} of 6 mm. Coordinates in mm, as in the job.`)
    .moveDown(0.8)
  list(pdf, m)
  const faces = part ? flatFaces(m, part) : []
  for (const f of faces) facePages(pdf, m, f)
  const around = m.ids.map((_, i) => i).filter((i) => PERCHES[m.perch[i]] !== 'part')
  if (around.length) tablePage(pdf, m, part, around)
  pdf.end()
  return pdf
}

function list(pdf: PDFKit.PDFDocument, m: Markers): void {
  const columns = [56, 92, 132, 230, 285, 340, 395, 540]
  const row = (cells: string[], font: string) => {
    if (pdf.y > 770) pdf.addPage()
    const y = pdf.y
    cells.forEach((c, i) => {
      pdf.font(font === 'bold' ? 'bold' : i === 2 || i === 6 ? 'text' : 'figures').fillColor(INK)
      pdf.text(c, columns[i], y, { width: columns[i + 1] - columns[i] - 6, align: i === 2 || i === 6 || i === 0 ? 'left' : 'right', lineBreak: false })
    })
    pdf.y = y + 13
  }
  pdf.fontSize(8.5)
  row(['no.', 'mm', 'sits', 'x', 'y', 'z', 'distance to the nearest: mm (no.)'], 'bold')
  m.ids.forEach((id, i) => {
    const near = neighbours(m, i, 3)
    row(
      [
        id,
        m.diameters[i].toFixed(0),
        wordsOf({ id: PERCH_QUANTITY[PERCHES[m.perch[i]]] }),
        ...[0, 1, 2].map((k) => m.positions[3 * i + k].toFixed(1)),
        near.map((n) => `${n.distance.toFixed(0)} (${m.ids[n.i]})`).join(', '),
      ],
      'figures',
    )
  })
}

function neighbours(m: Markers, i: number, n: number): { i: number; distance: number }[] {
  return m.ids
    .map((_, j) => ({ i: j, distance: Math.hypot(...[0, 1, 2].map((k) => m.positions[3 * i + k] - m.positions[3 * j + k])) }))
    .filter((x) => x.i !== i)
    .sort((a, b) => a.distance - b.distance)
    .slice(0, n)
}

/** Markers on the part, by the plane they lie in, with the outline of the part's surface in that plane. */
function flatFaces(m: Markers, part: Mesh): Face[] {
  const out: Face[] = []
  m.ids.forEach((_, i) => {
    if (PERCHES[m.perch[i]] !== 'part') return
    const n: [number, number, number] = [m.normals[3 * i], m.normals[3 * i + 1], m.normals[3 * i + 2]]
    const d = offset(n, m.positions, 3 * i)
    const same = out.find(
      (f) =>
        f.normal[0] * n[0] + f.normal[1] * n[1] + f.normal[2] * n[2] > FLAT &&
        Math.abs(offset(f.normal, m.positions, 3 * i) - offset(f.normal, m.positions, 3 * f.markers[0])) < THICK,
    )
    if (same) same.markers.push(i)
    else if (Number.isFinite(d)) out.push({ markers: [i], normal: n, ...paperAxes(n), edges: [], box: [0, 0, 0, 0] })
  })
  const { vertices: p, triangles: t } = part
  for (const f of out) {
    const level = offset(f.normal, m.positions, 3 * f.markers[0])
    const edges = new Map<string, number[]>()
    for (let k = 0; k < t.length / 3; k++) {
      const n = triangleNormal(p, t, k)
      if (n[0] * f.normal[0] + n[1] * f.normal[1] + n[2] * f.normal[2] < FLAT || Math.abs(offset(f.normal, p, 3 * t[3 * k]) - level) > THICK) continue
      for (let e = 0; e < 3; e++) {
        // an edge of two triangles of the face is inside it
        const ends = [3 * t[3 * k + e], 3 * t[3 * k + ((e + 1) % 3)]].map((o) => [dot(f.u, p, o), dot(f.v, p, o)])
        const key = ends
          .map(([x, y]) => `${x.toFixed(2)} ${y.toFixed(2)}`)
          .sort()
          .join('|')
        if (edges.has(key)) edges.delete(key)
        else edges.set(key, ends.flat())
      }
    }
    f.edges = [...edges.values()].flat()
    const xs = [...f.edges.filter((_, i) => i % 2 === 0), ...f.markers.map((i) => dot(f.u, m.positions, 3 * i))]
    const ys = [...f.edges.filter((_, i) => i % 2 === 1), ...f.markers.map((i) => dot(f.v, m.positions, 3 * i))]
    f.box = [Math.min(...xs) - 8, Math.min(...ys) - 8, Math.max(...xs) + 8, Math.max(...ys) + 8]
  }
  return out.filter((f) => f.edges.length > 0)
}

const offset = (n: ArrayLike<number>, p: ArrayLike<number>, o: number) => dot(n, p, o)
const dot = (n: ArrayLike<number>, p: ArrayLike<number>, o: number) => n[0] * p[o] + n[1] * p[o + 1] + n[2] * p[o + 2]

function paperAxes(n: [number, number, number]): { u: [number, number, number]; v: [number, number, number] } {
  const up = Math.abs(n[2]) > 0.9 ? [0, 1, 0] : [0, 0, 1]
  const along = up[0] * n[0] + up[1] * n[1] + up[2] * n[2]
  const v = up.map((x, k) => x - along * n[k])
  const l = Math.hypot(v[0], v[1], v[2])
  const w = v.map((x) => x / l) as [number, number, number]
  return { v: w, u: [w[1] * n[2] - w[2] * n[1], w[2] * n[0] - w[0] * n[2], w[0] * n[1] - w[1] * n[0]] }
}

/** A face at 1:1 on as many pages as it needs; smaller when that would be too many. */
function facePages(pdf: PDFKit.PDFDocument, m: Markers, f: Face): void {
  const [w, h] = [f.box[2] - f.box[0], f.box[3] - f.box[1]]
  const sheets = Math.ceil(w / WIDE) * Math.ceil(h / HIGH)
  const scale = sheets <= MOST_SHEETS ? 1 : Math.min(WIDE / w, HIGH / h)
  const [across, down] = scale === 1 ? [Math.ceil(w / WIDE), Math.ceil(h / HIGH)] : [1, 1]
  for (let j = 0; j < down; j++)
    for (let i = 0; i < across; i++) {
      pdf.addPage()
      const title = `Face with markers ${f.markers.map((k) => m.ids[k]).join(', ')}`
      pdf.font('bold').fontSize(10).fillColor(INK).text(title, 43, 34, { width: 500, lineBreak: false, ellipsis: true })
      const part = across * down > 1 ? `, sheet ${j * across + i + 1} of ${across * down}` : ''
      pdf
        .font('text')
        .fontSize(8.5)
        .fillColor(SOFT)
        .text(
          scale === 1 ? `1:1${part}. Print without scaling; the bar below is 50 mm long.` : `Scale ${scale.toFixed(3)}: too large for 1:1. Use the distances.`,
          43,
          48,
        )
      const x0 = f.box[0] + i * WIDE
      const y1 = f.box[3] - j * HIGH
      const at = (x: number, y: number): [number, number] => [43 + (x - x0) * scale * MM, 68 + (y1 - y) * scale * MM]
      pdf.save()
      pdf.rect(43, 68, WIDE * MM, HIGH * MM).clip()
      pdf.lineWidth(0.7).strokeColor(INK)
      for (let e = 0; e < f.edges.length; e += 4)
        pdf
          .moveTo(...at(f.edges[e], f.edges[e + 1]))
          .lineTo(...at(f.edges[e + 2], f.edges[e + 3]))
          .stroke()
      for (const k of f.markers) drawMarker(pdf, at(dot(f.u, m.positions, 3 * k), dot(f.v, m.positions, 3 * k)), (m.diameters[k] / 2) * scale * MM, m.ids[k])
      pdf.restore()
      if (scale === 1) {
        pdf.lineWidth(1.2).strokeColor(OAK)
        pdf
          .moveTo(43, 778)
          .lineTo(43 + 50 * MM, 778)
          .stroke()
        for (const x of [0, 10, 20, 30, 40, 50])
          pdf
            .moveTo(43 + x * MM, 774)
            .lineTo(43 + x * MM, 782)
            .stroke()
      }
    }
}

function drawMarker(pdf: PDFKit.PDFDocument, [x, y]: [number, number], r: number, id: string): void {
  pdf.lineWidth(0.6).strokeColor(OAK).circle(x, y, r).stroke()
  pdf
    .moveTo(x - r - 3, y)
    .lineTo(x + r + 3, y)
    .moveTo(x, y - r - 3)
    .lineTo(x, y + r + 3)
    .stroke()
  pdf
    .font('figures')
    .fontSize(8)
    .fillColor(INK)
    .text(id, x + r + 2, y - r - 9, { lineBreak: false })
}

/** The table from above: what stands around the part, as large as the page allows, with places measured from the part's corner. */
function tablePage(pdf: PDFKit.PDFDocument, m: Markers, part: Mesh | null, around: number[]): void {
  const p = part?.vertices ?? new Float32Array(0)
  const xs = [...around.map((i) => m.positions[3 * i])]
  const ys = [...around.map((i) => m.positions[3 * i + 1])]
  const box = [Infinity, Infinity, -Infinity, -Infinity]
  for (let i = 0; i < p.length; i += 3) {
    box[0] = Math.min(box[0], p[i])
    box[1] = Math.min(box[1], p[i + 1])
    box[2] = Math.max(box[2], p[i])
    box[3] = Math.max(box[3], p[i + 1])
  }
  if (part) xs.push(box[0], box[2])
  if (part) ys.push(box[1], box[3])
  const [x0, x1, y0, y1] = [Math.min(...xs) - 12, Math.max(...xs) + 12, Math.min(...ys) - 12, Math.max(...ys) + 12]
  const lying = x1 - x0 > y1 - y0
  pdf.addPage({ size: 'A4', margin: 56, layout: lying ? 'landscape' : 'portrait' })
  const scale = Math.min(1, (lying ? HIGH + 20 : WIDE) / (x1 - x0), (lying ? WIDE - 25 : HIGH) / (y1 - y0))
  const at = (x: number, y: number): [number, number] => [43 + (x - x0) * scale * MM, 68 + (y1 - y) * scale * MM]
  pdf.font('bold').fontSize(10).fillColor(INK).text('Around the part, from above', 43, 34)
  pdf
    .font('text')
    .fontSize(8.5)
    .fillColor(SOFT)
    .text(`Scale ${scale === 1 ? '1:1' : scale.toFixed(3)}. ${part ? 'The frame is the extent of the part; measure from its lower left corner.' : ''}`, 43, 48)
  if (part) {
    const [a, b] = [at(box[0], box[3]), at(box[2], box[1])]
    pdf
      .lineWidth(0.7)
      .strokeColor(INK)
      .rect(a[0], a[1], b[0] - a[0], b[1] - a[1])
      .stroke()
  }
  for (const i of around) {
    const c = at(m.positions[3 * i], m.positions[3 * i + 1])
    const r = Math.max(2, (m.diameters[i] / 2) * scale * MM)
    drawMarker(pdf, c, r, m.ids[i])
    const perch = PERCHES[m.perch[i]]
    if (perch !== 'table') {
      // the way a block or tower faces
      const n = [m.normals[3 * i], m.normals[3 * i + 1]]
      const l = Math.hypot(n[0], n[1]) || 1
      pdf
        .moveTo(...c)
        .lineTo(c[0] + (16 * n[0]) / l, c[1] - (16 * n[1]) / l)
        .stroke()
      pdf
        .font('text')
        .fontSize(6.5)
        .fillColor(SOFT)
        .text(wordsOf({ id: PERCH_QUANTITY[perch] }).replace(/^on (blocks of )?/, ''), c[0] + r + 2, c[1] + 1, { lineBreak: false })
    }
    if (part)
      pdf
        .font('figures')
        .fontSize(6)
        .fillColor(SOFT)
        .text(`${(m.positions[3 * i] - box[0]).toFixed(0)} / ${(m.positions[3 * i + 1] - box[1]).toFixed(0)}`, c[0] + r + 2, c[1] + 8, { lineBreak: false })
  }
}
