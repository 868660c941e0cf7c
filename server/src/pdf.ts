import { createRequire } from 'node:module'
import PDFDocument from 'pdfkit'

const need = createRequire(import.meta.url)
/** the fonts of the application, from its own packages */
const FONT = {
  text: '@fontsource/commissioner/files/commissioner-latin-400-normal.woff',
  bold: '@fontsource/commissioner/files/commissioner-latin-600-normal.woff',
  figures: '@fontsource/spline-sans-mono/files/spline-sans-mono-latin-400-normal.woff',
}
export const INK = '#2B2520'
export const OAK = '#8A5A2B'
export const SOFT = '#6B5D4F'
/** points of the page in a millimetre */
export const MM = 72 / 25.4

/** An A4 document in the fonts and colours of the application. */
export function openPdf(title: string, more: PDFKit.PDFDocumentOptions = {}): PDFKit.PDFDocument {
  const pdf = new PDFDocument({ size: 'A4', margin: 56, info: { Title: title, Creator: 'Oak Gauge' }, ...more })
  for (const [name, file] of Object.entries(FONT)) pdf.registerFont(name, need.resolve(file))
  return pdf
}
