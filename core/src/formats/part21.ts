/** What the text of an exchange file says of itself, before a CAD kernel guesses around its wounds. */
export interface Part21 {
  /** entities that are spoken of and are nowhere, each once, ascending */
  missing: number[]
  /** entities that are there more than once */
  doubled: number[]
  /** bounded faces */
  faces: number
  /** different colours of surfaces; those of edges are every exporter's own */
  colours: number
  /** a text, list or comment is open at the end */
  open: boolean
}

const [QUOTE, HASH, EQUALS, SLASH, STAR, SEMICOLON, LEFT, RIGHT] = [...`'#=/*;()`].map((c) => c.charCodeAt(0))
const isDigit = (c: number) => c >= 48 && c <= 57
const isBlank = (c: number) => c === 32 || (c >= 9 && c <= 13)
const isWord = (c: number) => (c >= 65 && c <= 90) || (c >= 97 && c <= 122) || c === 95 || isDigit(c)

/**
 * Looks over the clear text of a STEP file (ISO 10303-21:2016) in one pass, without building what it describes: are all entities there that are spoken of, each once,
 * are texts and lists closed, how many faces (ISO 10303-42: advanced_face, face_surface) should come out, how many colours surfaces have (ISO 10303-46: fill_area_style_colour).
 */
export function lookOver(b: Uint8Array): Part21 {
  let defined = new Float64Array(1024)
  let asked = new Float64Array(4096)
  let d = 0
  let a = 0
  let faces = 0
  const colourOf = new Map<number, string>()
  const fills: number[] = []
  let entity = 0
  let inFill = false
  let depth = 0
  let open = false
  let fresh = true
  for (let i = 0; i < b.length; i++) {
    const c = b[i]
    if (isBlank(c)) continue
    if (c === QUOTE) {
      const end = b.indexOf(QUOTE, i + 1)
      if (end < 0) {
        open = true
        break
      }
      // a doubled apostrophe begins the text again at once
      i = end
    } else if (c === SLASH && b[i + 1] === STAR) {
      let end = i + 2
      while (end < b.length && !(b[end] === STAR && b[end + 1] === SLASH)) end++
      if (end >= b.length) {
        open = true
        break
      }
      i = end + 1
      continue
    } else if (c === HASH && isDigit(b[i + 1])) {
      let id = 0
      while (isDigit(b[i + 1])) id = 10 * id + b[++i] - 48
      let next = i + 1
      while (isBlank(b[next])) next++
      if (fresh && b[next] === EQUALS) {
        if (d === defined.length) defined = grown(defined)
        defined[d++] = id
        entity = id
      } else {
        if (a === asked.length) asked = grown(asked)
        asked[a++] = id
        if (inFill) fills.push(id)
      }
    } else if (c === LEFT) depth++
    else if (c === RIGHT) depth--
    else if (c === SEMICOLON) {
      if (depth !== 0) open = true
      depth = 0
      fresh = true
      inFill = false
      continue
    } else if (isWord(c)) {
      const from = i
      while (isWord(b[i + 1])) i++
      if (isOne(FACES, b, from, i + 1)) faces++
      else if (isOne(COLOURS, b, from, i + 1)) colourOf.set(entity, colourAt(b, i + 1))
      else if (isOne(FILL, b, from, i + 1)) inFill = true
    }
    fresh = false
  }
  const have = defined.subarray(0, d).sort()
  const want = asked.subarray(0, a).sort()
  const missing: number[] = []
  const doubled: number[] = []
  for (let i = 1; i < d; i++) if (have[i] === have[i - 1] && doubled.at(-1) !== have[i]) doubled.push(have[i])
  for (let i = 0, h = 0; i < a; i++) {
    while (h < d && have[h] < want[i]) h++
    if (have[h] !== want[i] && missing.at(-1) !== want[i]) missing.push(want[i])
  }
  const colours = new Set(fills.map((id) => colourOf.get(id))).size
  return { missing, doubled, faces, colours, open }
}

function grown(list: Float64Array<ArrayBuffer>): Float64Array<ArrayBuffer> {
  const out = new Float64Array(2 * list.length)
  out.set(list)
  return out
}

const encoded = (...words: string[]) => words.map((w) => new TextEncoder().encode(w))
const FACES = encoded('ADVANCED_FACE', 'FACE_SURFACE')
const COLOURS = encoded('COLOUR_RGB', 'DRAUGHTING_PRE_DEFINED_COLOUR')
const FILL = encoded('FILL_AREA_STYLE_COLOUR')
function isOne(words: Uint8Array[], b: Uint8Array, from: number, to: number): boolean {
  for (const w of words) {
    if (w.length !== to - from) continue
    let k = 0
    while (k < w.length && b[from + k] === w[k]) k++
    if (k === w.length) return true
  }
  return false
}

/** Its three parts, or its name when it has none. */
function colourAt(b: Uint8Array, from: number): string {
  const end = b.indexOf(SEMICOLON, from)
  const text = new TextDecoder('latin1').decode(b.subarray(from, Math.min(end < 0 ? b.length : end, from + 200)))
  const parts = /'[^']*'\s*,\s*([^)]*)\)/.exec(text)
  if (!parts) return text.replace(/\s/g, '').toLowerCase()
  return parts[1]
    .split(',')
    .map((v) => Number(v).toFixed(3))
    .join(' ')
}
