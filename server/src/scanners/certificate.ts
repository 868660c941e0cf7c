import type { CalibrationRow, ScannerRow, VerificationRow } from '../db/scannermodels.ts'
import { INK, OAK, openPdf, SOFT } from '../pdf.ts'

const QUANTITY = {
  form: 'Probing form error, band of 95 % of the points',
  size: 'Probing size error, diameter',
  distance: 'Sphere distance error',
} as const

/** The verification of a scanner as a page to print. Everything on it is from the database. */
export function certificatePdf(scanner: ScannerRow, calibration: CalibrationRow | null, v: VerificationRow): PDFKit.PDFDocument {
  const pdf = openPdf(`Verification of ${scanner.name}, ${v.at.toISOString().slice(0, 10)}`)
  const day = (d: Date) => d.toISOString().slice(0, 16).replace('T', ' ') + ' UTC'
  pdf.fillColor(OAK).font('bold').fontSize(11).text('Oak Gauge')
  pdf.fillColor(INK).fontSize(20).text(`Verification of ${scanner.name}`).moveDown(0.3)
  pdf.font('text').fontSize(10)
  const fact = (name: string, value: string) => {
    const y = pdf.y
    pdf.fillColor(SOFT).text(name, 56, y, { width: 150 })
    pdf.fillColor(INK).text(value, 210, y, { width: 330 })
    pdf.y = Math.max(pdf.y, y + 15)
  }
  fact('Scanner', `${scanner.model}, serial ${scanner.serial}`)
  fact('Verified', `${day(v.at)}${v.cold ? ', although the scanner was not warm' : ''}`)
  fact('Calibration', calibration ? `of ${day(calibration.at)}, reprojection error ${calibration.result?.rms.toFixed(3)} px` : 'the scanner’s own')
  fact('Artefact', `${v.bar.name}, certificate ${v.bar.certificate.number} of ${v.bar.certificate.date}`)
  fact('Distance of the spheres', `${v.bar.distance.toFixed(4)} mm, U = ${v.bar.uncertainty.toFixed(4)} mm (k = 2) at ${v.bar.certificate.temperature} °C`)
  fact('Room', `${v.celsius.toFixed(1)} °C`)
  fact('Positions', `${v.readings.length}`)
  pdf.moveDown(1)
  const columns = [56, 290, 355, 415, 475]
  const row = (cells: string[], font: string) => {
    const y = pdf.y
    cells.forEach((c, i) => {
      pdf.font(i === 0 || font === 'bold' ? (font === 'bold' ? 'bold' : 'text') : i === 4 ? 'bold' : 'figures')
      pdf.text(c, columns[i], y, { width: (columns[i + 1] ?? 545) - columns[i] - 6, align: i === 0 || i === 4 ? 'left' : 'right' })
    })
    pdf.y = y + 17
  }
  pdf.fontSize(9.5)
  row(['Quantity, worst position', 'value mm', 'U mm', 'limit mm', 'verdict'], 'bold')
  pdf
    .moveTo(56, pdf.y - 2)
    .lineTo(540, pdf.y - 2)
    .strokeColor(OAK)
    .lineWidth(0.8)
    .stroke()
  for (const q of v.result.rows) row([QUANTITY[q.name], q.value.toFixed(4), q.uncertainty.toFixed(4), q.limit.toFixed(3), q.verdict], 'text')
  pdf.moveDown(0.6)
  // figures one below the other, right-aligned
  const places = [56, 110, 200, 290, 375, 460]
  const figures = (cells: string[], font: string) => {
    const y = pdf.y
    cells.forEach((c, k) => pdf.font(font).text(c, places[k], y, { width: (places[k + 1] ?? 540) - places[k] - 4, align: k === 0 ? 'left' : 'right' }))
    pdf.y = y + 14
  }
  figures(['Position', 'distance error', 'form 1', 'size 1', 'form 2', 'size 2 (mm)'], 'bold')
  pdf
    .moveTo(56, pdf.y - 1)
    .lineTo(540, pdf.y - 1)
    .stroke()
  pdf.y += 2
  v.readings.forEach((r, i) => {
    const [a, b] = r.spheres
    figures([String(i + 1), ...[r.distance, a.form, a.size, b.form, b.size].map((x) => x.toFixed(4))], 'figures')
  })
  pdf.x = 56
  pdf.moveDown(1.2)
  pdf.font('bold').fontSize(13).fillColor(INK).text(`Verdict: ${v.result.verdict}`, 56)
  pdf.moveDown(0.4)
  pdf
    .font('text')
    .fontSize(8.5)
    .fillColor(SOFT)
    .text(
      'Quantities in the manner of ISO 10360-13 and VDI/VDE 2634 parts 2 and 3: spheres fitted by least squares with free radius, at most 3 in 1000 points taken out as outliers, ' +
        'the cone of 45 degrees around the rod left out. Decided by ISO 14253-1: passed when the value lies inside the limit by more than its expanded uncertainty U (k = 2), failed when it lies outside by more than U. ' +
        'The procedure does not cover all positions and materials of these standards; what it leaves out is said in docs/methods.md. This page is no accredited certificate.',
      { width: 484 },
    )
  pdf.end()
  return pdf
}
