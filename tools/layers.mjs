// Which room may know which: the core knows nobody outside of it, its foundations know no method, and nothing goes in circles; in the browser part the
// view knows no stage. Run by `npm run lint`.
import { readdirSync, readFileSync, statSync } from 'node:fs'
import { dirname, join, relative } from 'node:path'

const CORE = 'core/src'
/** Rooms that all others stand on: they know one another and nobody else. */
const FOUNDATION = new Set(['base', 'simd', 'space', 'shape'])
/** Only this room knows the operations. */
const TOP = 'operations'

/** Files and what each imports, types included; paths relative to the room. */
export function imports(files) {
  const out = new Map()
  for (const [file, text] of files) {
    const list = []
    for (const m of text.matchAll(/^(?:import|export)\s(?:[^;'"]*?\sfrom\s)?'([^']+)'/gm)) list.push(m[1].startsWith('.') ? join(dirname(file), m[1]) : m[1])
    out.set(file, list)
  }
  return out
}

/** Groups of files that import one another in a circle (strongly connected, Tarjan 1972). */
export function circles(graph) {
  const [index, low, stack, on, out] = [new Map(), new Map(), [], new Set(), []]
  const visit = (v) => {
    index.set(v, index.size)
    low.set(v, index.get(v))
    stack.push(v)
    on.add(v)
    for (const w of graph.get(v)) {
      if (!graph.has(w)) continue
      if (!index.has(w)) {
        visit(w)
        low.set(v, Math.min(low.get(v), low.get(w)))
      } else if (on.has(w)) low.set(v, Math.min(low.get(v), index.get(w)))
    }
    if (low.get(v) !== index.get(v)) return
    const group = []
    for (let w; w !== v;) {
      w = stack.pop()
      on.delete(w)
      group.push(w)
    }
    if (group.length > 1) out.push(group.sort())
  }
  for (const v of graph.keys()) if (!index.has(v)) visit(v)
  return out
}

/** Lines that say what is wrong, none when all is well. */
export function wrongLayers(graph) {
  const out = circles(graph).map((g) => `in a circle: ${g.join(', ')}`)
  const room = (f) => f.split('/')[0]
  for (const [file, list] of graph)
    for (const to of list) {
      if (!graph.has(to)) {
        if (/^(node:|react|antd|express|@oak-gauge\/)/.test(to)) out.push(`${file}: the core does not know ${to}`)
        continue
      }
      if (FOUNDATION.has(room(file)) && !FOUNDATION.has(room(to))) out.push(`${file}: ${room(file)} is a foundation and does not know ${to}`)
      if (room(to) === TOP && room(file) !== TOP && file !== 'index.ts') out.push(`${file}: only ${TOP} know ${to}`)
    }
  return out
}

/** Of the browser part: rooms that serve all stages know none of them. */
export function wrongRooms(graph) {
  const out = []
  for (const [file, list] of graph)
    for (const to of list)
      if (/^(view|looks)\//.test(file) && /^(stages|scanners|bench)\//.test(to))
        out.push(`web/src/${file}: ${file.split('/')[0]} serves all and does not know ${to}`)
  return out
}

if (process.argv[1] === new URL(import.meta.url).pathname) {
  const filesOf = (root) => {
    const files = new Map()
    const walk = (d) => {
      for (const f of readdirSync(d)) {
        const p = join(d, f)
        if (statSync(p).isDirectory()) walk(p)
        else if (/\.tsx?$/.test(p)) files.set(relative(root, p), readFileSync(p, 'utf8'))
      }
    }
    walk(root)
    return files
  }
  const wrong = [...wrongLayers(imports(filesOf(CORE))), ...wrongRooms(imports(filesOf('web/src')))]
  for (const w of wrong) console.log(w)
  process.exit(wrong.length ? 1 : 0)
}
